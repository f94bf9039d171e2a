package news

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAChangeIsToldOnce(t *testing.T) {
	for _, c := range []struct {
		before, now string
		want        Kind
	}{
		{"", "failed", PipelineBroke}, {"passed", "failed", PipelineBroke}, {"passed", "timed-out", PipelineBroke},
		{"failed", "failed", ""}, {"failed", "timed-out", ""}, {"failed", "passed", PipelineMended},
		{"passed", "passed", ""}, {"", "passed", ""}, {"failed", "cancelled", ""}, {"passed", "cancelled", ""},
	} {
		assert.Equal(t, c.want, Change(c.before, c.now), "%s → %s", c.before, c.now)
	}
}

func TestWhatNobodyChoseIsFew(t *testing.T) {
	for _, k := range ForPrograms {
		assert.True(t, Known(k), k)
	}
	assert.NotContains(t, ForPrograms, RunEnded, "each run is much")
	assert.False(t, Known(SomebodyTriesOut), "nobody chooses it")
	assert.False(t, Known("no.such"))
	assert.Equal(t, []string{Mine}, ForPeople(false))
	assert.Contains(t, ForPeople(true), string(BudgetSpent))
}
