package client

import (
	"context"
	"errors"
	"io"
	"sync"
	"time"

	"gentlepiston.example/piston/core/talk"
)

// Visit is what somebody does in a workspace that stays.
type Visit struct {
	In   io.Reader        // what is typed; nil for nothing
	Out  io.Writer        // what is printed
	Word func(string)     // called with what is waited for, and with "" once nothing is
	Size <-chan talk.Size // the terminal's, when that changes
}

// beatEvery is how often the service hears that somebody is there.
const beatEvery = 10 * time.Second

// Visit talks until either side ends it, and tells how it ended. What is typed is not read further than that, but for
// the piece that is being read.
func (t *Talk) Visit(ctx context.Context, v Visit) (talk.Ending, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer t.Close()
	gate := &inFlight{}
	gate.moved.L = &gate.mu
	defer gate.end()
	if v.In != nil {
		go t.typeIn(ctx, v.In, gate) // reading ends with what it reads from
	}
	go t.beat(ctx, v.Size)
	for {
		kind, body, err := t.Read(ctx)
		if err != nil {
			if ctx.Err() != nil {
				return talk.Ending{}, ctx.Err()
			}
			return talk.Ending{}, errors.Join(ErrUnreachable, err)
		}
		switch kind {
		case talk.Over:
			return talk.EndingOf(body), nil
		case talk.Word:
			v.Word(string(body))
		case talk.Taken:
			gate.taken(talk.TakenOf(body))
		case talk.Data:
			if _, err := v.Out.Write(body); err != nil {
				return talk.Ending{}, err
			}
			_ = t.Write(ctx, talk.OfTaken(len(body))) // when it is gone, what it said last is still to be read
		}
	}
}

// typeIn sends what is typed, no more than the other side takes.
func (t *Talk) typeIn(ctx context.Context, in io.Reader, gate *inFlight) {
	piece := make([]byte, talk.MaxData)
	for {
		n, err := in.Read(piece)
		if n > 0 && (!gate.add(n) || t.Write(ctx, talk.Of(talk.Data, piece[:n])) != nil) {
			return
		}
		if err != nil {
			_ = t.Write(ctx, talk.Of(talk.End, nil)) // when it is gone nobody waits for more
			return
		}
	}
}

// beat says that somebody is there, and how large their terminal is.
func (t *Talk) beat(ctx context.Context, size <-chan talk.Size) {
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for {
		message := talk.Of(talk.Beat, nil)
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case s := <-size:
			message = talk.OfSize(s)
		}
		if t.Write(ctx, message) != nil {
			return
		}
	}
}

// inFlight counts the bytes that are on their way.
type inFlight struct {
	mu    sync.Mutex
	moved sync.Cond
	n     int
	over  bool
}

// add waits until n more may be; false when it is over.
func (f *inFlight) add(n int) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for !f.over && f.n > 0 && f.n+n > talk.Window {
		f.moved.Wait()
	}
	f.n += n
	return !f.over
}

func (f *inFlight) taken(n int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.n = max(0, f.n-n)
	f.moved.Broadcast()
}

func (f *inFlight) end() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.over = true
	f.moved.Broadcast()
}
