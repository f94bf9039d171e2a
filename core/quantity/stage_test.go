package quantity

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStages(t *testing.T) {
	list, err := ParseStages(10, []string{"50% after 1d", "100 % after 36h"})
	require.NoError(t, err)
	assert.Equal(t, []Stage{{50, 24 * time.Hour}, {100, 36 * time.Hour}}, list)
	assert.Equal(t, list[1:], StagesAbove(list, 60))
	assert.Empty(t, StagesAbove(list, 100))
	for _, texts := range [][]string{{"50"}, {"5% after 1d"}, {"50% after 1s"}, {"50% after 90d"}, {"101% after 1d"},
		{"50% after soon"}, {"50% after 1d", "50% after 1d"}, {"-50% after 1d"}} {
		_, err := ParseStages(10, texts)
		assert.Error(t, err, "%v", texts)
	}
	_, err = ParseStages(0, []string{"50% after 1d"})
	assert.Error(t, err, "all have it already")
}
