package stays

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"gentlepiston.example/piston/core/talk"
)

// Line is a connection that messages go over, each whole.
type Line interface {
	Read(ctx context.Context) ([]byte, error)
	Write(ctx context.Context, message []byte) error
}

// How often each side says that it is there, and after what silence it is not.
const (
	beatEvery = 10 * time.Second
	silence   = 35 * time.Second
	// seldomEvery is the least time between messages that are seldom.
	seldomEvery = 10 * time.Millisecond
)

// bridge passes messages between a line and the other side of a shell, which may be at another server, until either
// ends. It holds a line back that sends more than the other side takes.
type bridge struct {
	line Line
	pass func(message []byte) error // to the other side
	from <-chan []byte              // from it
	// seen is asked about each message of the line before it is passed; nil for none.
	seen func(kind talk.Kind, body []byte) error
	// word is what whoever waits is told until the other side is there; nil for nothing.
	word func() string
	// patience is how long that may take.
	patience time.Duration
	// woken is when it may be over otherwise, which overWhy tells: why, or "" when it is not.
	woken   <-chan struct{}
	overWhy func() string

	mu    sync.Mutex
	moved sync.Cond
	out   int  // bytes on their way
	shown int  // bytes that the line was given, and has not said that it took
	there bool // the other side is
	over  bool
}

// errLeft says that a line is no longer there.
var errLeft = errors.New("the connection is gone")

// run returns how it ended.
func (b *bridge) run(ctx context.Context) talk.Ending {
	b.moved.L = &b.mu
	ctx, cancel := context.WithCancel(ctx)
	read := make(chan talk.Ending, 1)
	go func() { read <- b.forth(ctx) }()
	heard, back := false, make(chan talk.Ending, 1)
	go func() {
		var ended talk.Ending
		ended, heard = b.back(ctx)
		back <- ended
	}()
	var ended talk.Ending
	mine := true
	select {
	case ended = <-read:
	case ended = <-back:
		mine = false
	}
	b.mu.Lock()
	b.over = true
	b.moved.Broadcast()
	b.mu.Unlock()
	if mine || !heard { // else the other side has told us
		_ = b.pass(talk.OfEnding(ended))
	}
	telling, done := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	_ = b.line.Write(telling, talk.OfEnding(ended))
	done()
	cancel()
	if mine {
		<-back
	} else {
		<-read
	}
	return ended
}

// forth passes what comes over the line.
func (b *bridge) forth(ctx context.Context) talk.Ending {
	for {
		message, err := b.read(ctx)
		if err != nil {
			return talk.Ending{Why: errLeft.Error()}
		}
		kind, body, err := talk.Read(message)
		if err != nil {
			return talk.Ending{Why: err.Error()}
		}
		if b.seen != nil {
			if err := b.seen(kind, body); err != nil {
				return talk.Ending{Why: err.Error()}
			}
		}
		switch kind {
		case talk.Over:
			return talk.EndingOf(body)
		case talk.Beat, talk.Word:
			continue
		case talk.Taken:
			if !b.took(talk.TakenOf(body)) {
				return talk.Ending{Why: "it says that it took what it was not given"}
			}
		case talk.Resize, talk.End:
			// Nobody does so often; whoever does would be passed on without end.
			select {
			case <-time.After(seldomEvery):
			case <-ctx.Done():
			}
		case talk.Data:
			if !b.room(len(body)) {
				return talk.Ending{}
			}
		}
		if kind != talk.Data && !b.room(0) {
			return talk.Ending{}
		}
		if err := b.pass(message); err != nil {
			return talk.Ending{Why: fmt.Sprintf("what was sent cannot be passed on: %v", err)}
		}
	}
}

// read reads a message, and gives up a line that is silent.
func (b *bridge) read(ctx context.Context) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, silence)
	defer cancel()
	return b.line.Read(ctx)
}

// room waits until the other side is there and n more bytes may be on their way; false when it is over before.
func (b *bridge) room(n int) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	for !b.over && (!b.there || b.out > 0 && b.out+n > talk.Window) {
		b.moved.Wait()
	}
	b.out += n
	return !b.over
}

// took notes that the line has taken bytes; false when it was not given so many.
func (b *bridge) took(n int) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.shown -= n
	return b.shown >= 0
}

// give gives a message to the line.
func (b *bridge) give(ctx context.Context, message []byte) error {
	if talk.Kind(message[0]) == talk.Data {
		b.mu.Lock()
		b.shown += len(message) - 1
		b.mu.Unlock()
	}
	return b.line.Write(ctx, message)
}

// heard notes that the other side is there and has taken bytes.
func (b *bridge) heard(taken int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.there = true
	b.out = max(0, b.out-taken)
	b.moved.Broadcast()
}

// back passes what comes from the other side, says that this one is there, and knows when that is not. It tells whether
// it was the other side that ended it.
func (b *bridge) back(ctx context.Context) (ended talk.Ending, heard bool) {
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	last, there, told := time.Now(), false, ""
	if b.pass(talk.Of(talk.Beat, nil)) != nil {
		return talk.Ending{Why: errLeft.Error()}, false
	}
	look := time.NewTicker(time.Second)
	defer look.Stop()
	for {
		var message []byte
		select {
		case <-ctx.Done():
			return talk.Ending{Why: "the service is ending"}, false
		case <-b.woken:
			if why := b.overWhy(); why != "" {
				return talk.Ending{Why: why}, false
			}
			continue
		case <-beat.C:
			if why := b.overWhy(); why != "" { // had it been told while nobody listened
				return talk.Ending{Why: why}, false
			}
			if err := b.pass(talk.Of(talk.Beat, nil)); err != nil {
				return talk.Ending{Why: errLeft.Error()}, false
			}
			message = talk.Of(talk.Beat, nil)
		case now := <-look.C:
			switch quiet := now.Sub(last); {
			case there && quiet > silence:
				return talk.Ending{Why: "the other side is not heard of any more"}, false
			case !there && quiet > b.patience:
				return talk.Ending{Why: "the machine does not answer"}, false
			}
			if there || b.word == nil {
				continue
			}
			word := b.word()
			if word == told {
				continue
			}
			told, message = word, talk.Of(talk.Word, []byte(word))
		case message = <-b.from:
			last = time.Now()
			kind, body, err := talk.Read(message)
			if err != nil {
				return talk.Ending{Why: err.Error()}, false
			}
			taken := 0
			if kind == talk.Taken {
				taken = talk.TakenOf(body)
			}
			b.heard(taken)
			switch {
			case kind == talk.Over:
				return talk.EndingOf(body), true
			case !there:
				there = true // and it may not have heard that this one is
				if err := b.pass(talk.Of(talk.Beat, nil)); err != nil {
					return talk.Ending{Why: errLeft.Error()}, false
				}
				if err := b.line.Write(ctx, talk.Of(talk.Word, nil)); err != nil {
					return talk.Ending{Why: errLeft.Error()}, false
				}
			}
			if kind == talk.Taken || kind == talk.Beat {
				continue
			}
		}
		if err := b.give(ctx, message); err != nil {
			return talk.Ending{Why: errLeft.Error()}, false
		}
	}
}
