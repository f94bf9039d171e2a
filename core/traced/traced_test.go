package traced

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestIdsFollowFromWhatTheyName(t *testing.T) {
	at := time.Unix(1_700_000_000, 0)
	run := OfRun(7, at, 0)
	assert.Equal(t, run, OfRun(7, at, 0))
	for _, other := range []Trace{OfRun(8, at, 0), OfRun(7, at.Add(time.Microsecond), 0), OfRun(7, at, 1)} {
		assert.NotEqual(t, run, other)
	}
	spans := map[Span]bool{run.Whole(): true, run.Attempt(1): true, run.Attempt(2): true, run.Prepared(1): true,
		run.Step(1, 0): true, run.Step(1, 1): true, run.Step(11, 0): true, OfRun(8, at, 0).Whole(): true}
	assert.Len(t, spans, 8)
	assert.Regexp(t, `^00-[0-9a-f]{32}-[0-9a-f]{16}-01$`, run.Parent(run.Step(1, 0)))
	same, err := Read(run.String())
	require.NoError(t, err)
	assert.Equal(t, run, same)
	for _, text := range []string{"", "00", run.String() + "00", "zz" + run.String()[2:]} {
		_, err := Read(text)
		assert.Error(t, err, text)
	}
}
