package stream

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
)

func open(t *testing.T, dir string) *Stream {
	t.Helper()
	s, err := Open(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func batch(id LogID, first, count int64) Batch {
	var lines []logline.Line
	for n := first; n < first+count; n++ {
		lines = append(lines, logline.Line{N: n, At: n, Text: fmt.Sprintf("line %d of %d", n, id.Attempt)})
	}
	return Batch{ID: id, First: first, Count: count, Text: logline.Encode(lines)}
}

func TestReadLogFindsAnyLineAmongOtherLogs(t *testing.T) {
	s := open(t, t.TempDir())
	a, b := LogID{1, 10}, LogID{1, 11}
	var last int64
	for i := range int64(60) {
		count := i%7 + 1
		require.NoError(t, s.AppendLog(t.Context(), batch(a, last+1, count)))
		if i%3 == 0 {
			require.NoError(t, s.AppendLog(t.Context(), batch(a, last+1, count)), "a repeated batch is harmless")
			require.NoError(t, s.AppendLog(t.Context(), batch(b, i/3+1, 1)))
		}
		last += count
	}
	got, err := s.LastLine(t.Context(), a)
	require.NoError(t, err)
	assert.Equal(t, last, got)
	for from := int64(1); from <= last; from++ {
		lines, err := s.ReadLog(t.Context(), a, from, 5)
		require.NoError(t, err)
		require.Len(t, lines, int(min(5, last-from+1)), "from %d", from)
		for i, l := range lines {
			require.Equal(t, from+int64(i), l.N)
			require.Equal(t, fmt.Sprintf("line %d of 10", l.N), l.Text)
		}
	}
	require.NoError(t, s.PurgeLog(t.Context(), a))
	lines, err := s.ReadLog(t.Context(), a, 1, 5)
	require.NoError(t, err)
	assert.Empty(t, lines)
	lines, err = s.ReadLog(t.Context(), b, 1, 100)
	require.NoError(t, err)
	assert.Len(t, lines, 20, "the other log is untouched")
}

func TestWhatWasAcceptedIsThereAfterReopening(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), dir)
	require.NoError(t, err)
	require.NoError(t, s.AppendLog(t.Context(), batch(LogID{3, 4}, 1, 50)))
	require.NoError(t, s.PublishEvent(t.Context(), 1, "e1", api.Change{Project: "p", Run: 3}))
	s.Close()

	s = open(t, dir)
	lines, err := s.ReadLog(t.Context(), LogID{3, 4}, 49, 10)
	require.NoError(t, err)
	assert.Len(t, lines, 2)
	last, err := s.LastEvent(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 1, last)
}

func TestEventsResumeAndAreNotDoubled(t *testing.T) {
	s := open(t, t.TempDir())
	for i := range 3 {
		for range 2 {
			require.NoError(t, s.PublishEvent(t.Context(), 1, fmt.Sprint("e", i), api.Change{Project: "p", Run: record.RunNumber(i)}))
		}
	}
	require.NoError(t, s.PublishEvent(t.Context(), 2, "other", api.Change{Project: "q", Run: 9}))
	r, err := s.Events(t.Context(), 1, 1, 0)
	require.NoError(t, err)
	defer r.Close()
	for want := record.RunNumber(1); want < 3; want++ {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		e, err := r.Next(ctx)
		cancel()
		require.NoError(t, err)
		assert.Equal(t, want, e.Change.Run)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err = r.Next(ctx)
	assert.Error(t, err, "nothing of the other project comes")
}

func TestLogsFollowARun(t *testing.T) {
	s := open(t, t.TempDir())
	r, err := s.Logs(t.Context(), 7, 0)
	require.NoError(t, err)
	defer r.Close()
	for i := range int64(20) {
		require.NoError(t, s.AppendLog(t.Context(), batch(LogID{7, 1}, i+1, 1)))
		require.NoError(t, s.AppendLog(t.Context(), batch(LogID{8, 2}, i+1, 1)))
	}
	for i := range int64(20) {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		b, err := r.Next(ctx)
		cancel()
		require.NoError(t, err)
		assert.Equal(t, i+1, b.First)
		assert.EqualValues(t, 7, b.ID.Run)
	}
}

func TestWakeReachesWaiters(t *testing.T) {
	s := open(t, t.TempDir())
	woken, cancel, err := s.OnWake("jobs")
	require.NoError(t, err)
	defer cancel()
	s.Wake("jobs")
	select {
	case <-woken:
	case <-time.After(5 * time.Second):
		t.Fatal("not woken")
	}
}
