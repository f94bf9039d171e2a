package attempt

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/logline"
)

func TestLogSinkSendsEveryLineOnceInOrder(t *testing.T) {
	var got []logline.Line
	requests := 0
	s := newLogSink(t.Context(), func(_ context.Context, first int64, text []byte) error {
		lines, err := logline.Decode(first, text)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(text), sinkBatch+logline.MaxText+100)
		got = append(got, lines...)
		requests++
		return nil
	}, nil)
	const n = 20_000
	for i := range n {
		l := s.add(i%3, fmt.Sprintf("line %d %s", i, strings.Repeat("x", i%200)))
		require.EqualValues(t, i+1, l.N)
	}
	s.close()
	require.Len(t, got, n)
	for i, l := range got {
		require.EqualValues(t, i+1, l.N)
		require.Contains(t, l.Text, fmt.Sprintf("line %d ", i))
	}
	assert.EqualValues(t, n, s.last())
	assert.Less(t, requests, 200, "lines go together")
}

func TestLogSinkHoldsAFastWriterUp(t *testing.T) {
	release := make(chan struct{})
	s := newLogSink(t.Context(), func(context.Context, int64, []byte) error { <-release; return nil }, nil)
	var added atomic.Int64
	go func() {
		for range 100 {
			s.add(0, strings.Repeat("x", 32<<10))
			added.Add(1)
		}
	}()
	time.Sleep(300 * time.Millisecond)
	assert.Less(t, added.Load(), int64(60), "what cannot be sent is not taken in")
	close(release)
	require.Eventually(t, func() bool { return added.Load() == 100 }, 5*time.Second, 10*time.Millisecond)
	s.close()
}

func TestLogSinkThatCannotSendLetsTheWriterGoOn(t *testing.T) {
	broken := errors.New("gone")
	failed := make(chan error, 1)
	s := newLogSink(t.Context(), func(context.Context, int64, []byte) error { return broken }, func(err error) { failed <- err })
	for range 200 {
		s.add(0, strings.Repeat("x", 32<<10))
	}
	assert.ErrorIs(t, <-failed, broken)
	s.close()
}
