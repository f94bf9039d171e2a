package keep

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestRules(t *testing.T) {
	own := Rules{LogDays: 3, ArtifactDays: Forever}.Over(Rules{LogDays: 9, CacheBytes: 7}).Over(Default)
	assert.Equal(t, Rules{3, Forever, 5, 30, 7, 7}, own)
	assert.NoError(t, Default.Check())
	for _, good := range []Rules{{LogDays: Forever}, {HandDays: most}, {}} {
		assert.NoError(t, good.Check(), "%+v", good)
	}
	for _, bad := range []Rules{{LogDays: -2}, {CacheDays: most + 1}, {ArtifactDays: -2}, {HandDays: most + 1}, {CacheBytes: -1},
		{ArtifactRuns: -1}} {
		assert.Error(t, bad.Check(), "%+v", bad)
	}
	now := time.Date(2026, 3, 10, 0, 0, 0, 0, time.UTC)
	assert.Equal(t, time.Date(2026, 3, 3, 0, 0, 0, 0, time.UTC), Before(now, 7))
	assert.True(t, Before(now, Forever).IsZero())
}
