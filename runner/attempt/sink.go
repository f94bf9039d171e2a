package attempt

import (
	"context"
	"sync"
	"time"

	"gentlepiston.example/piston/core/logline"
)

const (
	// sinkLimit is how many bytes of lines may wait to be sent; a step that prints faster than the service takes is
	// held up, instead of the runner growing.
	sinkLimit = 1 << 20
	// sinkBatch is how many bytes end a batch: whoever looks for a line in a live log reads whole batches.
	sinkBatch = 128 << 10
	// sinkPause spaces small batches, so that a chatty step does not become a request a line.
	sinkPause = 15 * time.Millisecond
)

// logSink numbers the lines of a job's log and sends them, in order, each until it is taken.
type logSink struct {
	send func(ctx context.Context, first int64, text []byte) error
	fail func(error) // called once when lines can no longer be sent
	most int64       // bytes of steps' lines that may be added; 0 any number
	over func()      // called once when there are more

	mu      sync.Mutex
	room    *sync.Cond // less waits than before
	batches []batch    // oldest first; lines are added to the last
	waiting int        // bytes in them
	next    int64      // number the next line gets
	size    int64      // bytes that steps have added
	broken  bool
	closed  bool
	wake    chan struct{} // there is something to send, or a full batch, or no more will come
	done    chan struct{}
}

type batch struct {
	first int64
	text  []byte
}

func newLogSink(ctx context.Context, send func(context.Context, int64, []byte) error, fail func(error)) *logSink {
	s := &logSink{send: send, fail: fail, next: 1, wake: make(chan struct{}, 1), done: make(chan struct{})}
	s.room = sync.NewCond(&s.mu)
	go s.run(ctx)
	return s
}

func (s *logSink) poke() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// add appends a line and returns it with its number.
func (s *logSink) add(step int, text string) logline.Line {
	s.mu.Lock()
	defer s.mu.Unlock()
	for s.waiting >= sinkLimit && !s.broken {
		s.room.Wait()
	}
	if step != Outside && s.most > 0 {
		if s.size += int64(len(text)) + 1; s.size > s.most {
			if s.over != nil {
				s.over()
				s.over = nil
			}
			return logline.Line{} // whoever prints so much is being ended
		}
	}
	l := logline.Line{N: s.next, At: time.Now().UnixMilli(), Step: step, Text: text}
	s.next++
	if s.broken {
		return l
	}
	if n := len(s.batches); n == 0 || len(s.batches[n-1].text) >= sinkBatch {
		s.batches = append(s.batches, batch{first: l.N})
		s.poke()
	}
	last := &s.batches[len(s.batches)-1]
	before := len(last.text)
	last.text = logline.Append(last.text, l)
	s.waiting += len(last.text) - before
	return l
}

// last is the number of the last line added.
func (s *logSink) last() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.next - 1
}

// close sends what is waiting and returns when it is sent.
func (s *logSink) close() {
	s.mu.Lock()
	s.closed = true
	s.mu.Unlock()
	s.poke()
	<-s.done
}

// run sends one batch after the other. A batch that is not full waits until a little after the one before it.
func (s *logSink) run(ctx context.Context) {
	defer close(s.done)
	var sent time.Time
	for {
		s.mu.Lock()
		n, closed := len(s.batches), s.closed
		s.mu.Unlock()
		if n == 0 {
			if closed {
				return
			}
			<-s.wake
			continue
		}
		if left := sinkPause - time.Since(sent); n == 1 && left > 0 && !closed {
			select {
			case <-s.wake:
			case <-time.After(left):
			}
			continue
		}
		b := s.take()
		if err := s.send(ctx, b.first, b.text); err != nil {
			s.breakOff()
			s.fail(err)
			return
		}
		sent = time.Now()
	}
}

func (s *logSink) take() batch {
	s.mu.Lock()
	defer s.mu.Unlock()
	b := s.batches[0]
	s.batches = s.batches[1:]
	s.waiting -= len(b.text)
	s.room.Broadcast()
	return b
}

// breakOff lets whoever adds lines go on, into nothing.
func (s *logSink) breakOff() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.broken, s.batches, s.waiting = true, nil, 0
	s.room.Broadcast()
}
