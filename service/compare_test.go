package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logdiff"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
)

// says has a run whose job says so, and gives its number.
func says(t *testing.T, s *Service, to state.State, texts ...string) record.RunNumber {
	t.Helper()
	ctx := asItself(t)
	run := planned(t, s, "[[job.core.step]]\nscript = \"x\"\n")
	w, _ := claim(t, s)
	require.NotNil(t, w)
	at := time.Now().UnixMilli()
	for from := 0; from < len(texts); from += 100 {
		var lines []logline.Line
		for _, text := range texts[from:min(from+100, len(texts))] {
			lines = append(lines, logline.Line{At: at, Text: text})
		}
		require.NoError(t, s.Logs.AppendLog(ctx, w.Attempt, int64(from+1), logline.Encode(lines)))
	}
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: to, At: at, Lines: int64(len(texts))}))
	return run.Number
}

func shownLines(list []api.LogDifference) (out []string) {
	for _, d := range list {
		switch {
		case d.Hidden > 0:
			out = append(out, fmt.Sprintf("… %d", d.Hidden))
		case d.Same:
			for _, l := range d.Is {
				out = append(out, fmt.Sprintf("  %d %s", l.N, l.Text))
			}
		default:
			for _, l := range d.Was {
				out = append(out, fmt.Sprintf("- %d %s", l.N, l.Text))
			}
			for _, l := range d.Is {
				out = append(out, fmt.Sprintf("+ %d %s", l.N, l.Text))
			}
		}
	}
	return out
}

func TestTheLogsOfTwoRunsAreCompared(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	base := []string{"checked out c0ffee1234 in 5 ms"}
	for i := range 20 {
		base = append(base, fmt.Sprint("compile part ", i))
	}
	good := says(t, s, state.Passed, append(append([]string{}, base...), "7 passed", "done")...)
	base[0] = "checked out beefbeef99 in 70 ms"
	bad := says(t, s, state.Failed, append(append([]string{}, base...), "6 passed", "1 failed", "done")...)
	d, err := s.Logs.Compare(ctx, "p", bad, "core", good)
	require.NoError(t, err)
	assert.Equal(t, []string{"… 18", "  19 compile part 17", "  20 compile part 18", "  21 compile part 19", "- 22 7 passed",
		"+ 22 6 passed", "+ 23 1 failed", "  24 done"}, shownLines(d.Parts))
	assert.Equal(t, 2, d.Different)
	assert.Equal(t, api.LogSide{Run: good, Job: "core", Attempt: 1, State: state.Passed, Lines: 23, From: 1}, d.Was)
	assert.Equal(t, state.Failed, d.Is.State)
	assert.False(t, d.Rough || d.More)

	same, err := s.Logs.Compare(ctx, "p", good, "core", good)
	require.NoError(t, err)
	assert.Zero(t, same.Different)
	assert.Equal(t, []string{"… 23"}, shownLines(same.Parts))
	_, err = s.Logs.Compare(ctx, "p", bad, "nobody", good)
	require.ErrorIs(t, err, ground.ErrNotFound)
	_, err = s.Logs.Compare(ctx, "p", bad, "core", 99)
	require.ErrorIs(t, err, ground.ErrNotFound)
	silent := says(t, s, state.Passed)
	d, err = s.Logs.Compare(ctx, "p", silent, "core", good)
	require.NoError(t, err)
	assert.Equal(t, 23, d.Different)
}

// Of endless logs the end is compared, and as much is shown as anybody reads.
func TestLongLogsAreComparedToTheirEnd(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	long := make([]string, logdiff.MaxLines+500)
	for i := range long {
		long[i] = fmt.Sprint("line ", i)
	}
	good := says(t, s, state.Passed, long...)
	for i := range long {
		long[i] = fmt.Sprint("other ", i)
	}
	bad := says(t, s, state.Failed, long...)
	d, err := s.Logs.Compare(ctx, "p", bad, "core", good)
	require.NoError(t, err)
	assert.True(t, d.More)
	assert.EqualValues(t, 501, d.Was.From)
	assert.EqualValues(t, logdiff.MaxLines+500, d.Was.Lines)
	assert.LessOrEqual(t, len(shownLines(d.Parts)), 4000)
	assert.Equal(t, logdiff.MaxLines, d.Different)
	// Lines that are long count by their bytes.
	wide := make([]string, 5000)
	for i := range wide {
		wide[i] = strings.Repeat("x", 8000)
	}
	wider := says(t, s, state.Passed, wide...)
	d, err = s.Logs.Compare(ctx, "p", wider, "core", good)
	require.NoError(t, err)
	assert.Greater(t, d.Is.From, int64(1))
	assert.Less(t, d.Is.From, int64(5000))
}
