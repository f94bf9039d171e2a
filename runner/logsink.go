package runner

import (
	"context"
	"sync"
	"time"

	"gentlepiston.example/piston/core/logline"
)

const (
	// sinkLimit is how many bytes of lines may wait to be sent; a step that prints faster than the service takes is
	// held up, instead of the runner growing.
	sinkLimit = 512 << 10
	// sinkPause spaces small batches, so that a chatty step does not become a request a line.
	sinkPause = 15 * time.Millisecond
)

// logSink numbers the lines of a job's log and sends them, in order, each until it is taken.
type logSink struct {
	send func(ctx context.Context, first int64, text []byte) error
	fail func(error) // called once when lines can no longer be sent

	mu      sync.Mutex
	changed *sync.Cond
	pending []byte
	first   int64 // number of the first pending line
	next    int64 // number the next line gets
	broken  bool
	closed  bool
	done    chan struct{}
}

func newLogSink(ctx context.Context, send func(context.Context, int64, []byte) error, fail func(error)) *logSink {
	s := &logSink{send: send, fail: fail, first: 1, next: 1, done: make(chan struct{})}
	s.changed = sync.NewCond(&s.mu)
	go s.run(ctx)
	return s
}

// add appends a line and returns it with its number.
func (s *logSink) add(step int, text string) logline.Line {
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(s.pending) >= sinkLimit && !s.broken {
		s.changed.Wait()
	}
	l := logline.Line{N: s.next, At: time.Now().UnixMilli(), Step: step, Text: text}
	s.next++
	if !s.broken {
		s.pending = logline.Append(s.pending, l)
		s.changed.Broadcast()
	}
	return l
}

// last is the number of the last line added.
func (s *logSink) last() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.next - 1
}

// close sends what is pending and waits for it.
func (s *logSink) close() {
	s.mu.Lock()
	s.closed = true
	s.changed.Broadcast()
	s.mu.Unlock()
	<-s.done
}

func (s *logSink) run(ctx context.Context) {
	defer close(s.done)
	for {
		s.mu.Lock()
		for len(s.pending) == 0 && !s.closed {
			s.changed.Wait()
		}
		if len(s.pending) == 0 {
			s.mu.Unlock()
			return
		}
		batch, first, last := s.pending, s.first, s.closed
		s.pending, s.first = nil, s.next
		s.changed.Broadcast()
		s.mu.Unlock()

		if err := s.send(ctx, first, batch); err != nil {
			s.mu.Lock()
			s.broken, s.pending = true, nil
			s.changed.Broadcast()
			s.mu.Unlock()
			s.fail(err)
			return
		}
		if len(batch) < 32<<10 && !last {
			pause(ctx, sinkPause)
		}
	}
}
