// Package ground is what every use case stands on: who asks and what they may see, the records, the loops that run
// beside requests, and how it is told what happened. It keeps nothing in memory that another server on the same records
// would miss.
package ground

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

// Ground is what the rooms of one server share.
type Ground struct {
	Store  *store.Store
	Stream *stream.Stream
	Space  *Space // of the disk that the data folder is on
	Log    *slog.Logger
	Life   context.Context // of the service itself; it ends when the server does

	home     string
	kick     chan struct{} // something is in the outbox
	moves    chan struct{} // a log may be ready to move
	ends     chan struct{} // a run is over, for which another pipeline may wait
	later    *later
	endLater func()
	end      context.CancelFunc
	at       sync.WaitGroup
}

// New is the ground of a server whose data folder is home and keeps so many bytes of the disk free.
func New(st *store.Store, sm *stream.Stream, home string, reserve int64, log *slog.Logger) (*Ground, error) {
	g := &Ground{Store: st, Stream: sm, Space: &Space{dir: home, Reserve: reserve}, Log: log, home: home,
		endLater: func() {}, kick: make(chan struct{}, 1), moves: make(chan struct{}, 1), ends: make(chan struct{}, 1)}
	g.Life, g.end = context.WithCancel(AsItself(context.Background()))
	var err error
	g.later, err = openLater(g)
	return g, err
}

// Close ends what runs beside requests, and waits for it.
func (s *Ground) Close() {
	s.end()
	s.at.Wait()
	s.endLater()
}

// Home is the data folder.
func (s *Ground) Home() string { return s.home }

// Go does something beside the request that wanted it. It ends with Life.
func (s *Ground) Go(do func()) { s.at.Go(do) }

// StaysTopic is woken when something about a workspace that stays, or a shell in it, is different.
const StaysTopic = "stays"

// JobsTopic is woken when there may be work to claim.
const JobsTopic = "jobs"

// Mirror is where the copy is of a project's remote that is not on this machine.
func (s *Ground) Mirror(project record.ProjectID) string {
	return filepath.Join(s.home, "mirrors", fmt.Sprintf("%d.git", project))
}

// poke wakes a background loop; when it is awake already, that is enough.
func poke(ch chan struct{}) {
	select {
	case ch <- struct{}{}:
	default:
	}
}

// Upkeep is a piece of work that is done over and over beside requests, whatever server does it.
type Upkeep struct {
	What  string
	Every time.Duration
	Poked chan struct{} // it is done at once when poked; nil never
	Rest  time.Duration // how long it is left alone after it was done, however often it is poked
	Do    func(ctx context.Context) error
}

// Loop does it until the service ends. A failure is logged once until it changes.
func (s *Ground) Loop(u Upkeep) {
	s.at.Go(func() {
		last := ""
		for {
			select {
			case <-time.After(u.Every):
			case <-u.Poked:
			case <-s.Life.Done():
				return
			}
			err := u.Do(s.Life)
			if s.Life.Err() != nil {
				return
			}
			if text := fmt.Sprint(err); err != nil && text != last {
				s.Log.Warn(u.What+" failed; trying again", "error", err)
				last = text
			} else if err == nil {
				last = ""
			}
			select {
			case <-time.After(u.Rest):
			case <-s.Life.Done():
				return
			}
		}
	})
}

// Moves is poked when a log may be ready to move.
func (s *Ground) Moves() chan struct{} { return s.moves }

// Ends is poked when a run is over, for which another pipeline may wait.
func (s *Ground) Ends() chan struct{} { return s.ends }

// Background starts the loops of the ground itself, and the work that was put off. All rooms have said what they do.
func (s *Ground) Background() (err error) {
	if s.endLater, err = s.later.start(s.Life); err != nil {
		return err
	}
	s.Loop(Upkeep{What: "publishing events", Every: time.Second, Poked: s.kick,
		Rest: 5 * time.Millisecond, Do: s.publish})
	return nil
}

// publish sends what is in the outbox. An event that was sent and not removed, or that another server sends too, comes
// again under the same id, which the stream takes for the same.
func (s *Ground) publish(ctx context.Context) error {
	for {
		events, err := s.Store.Outbox(ctx)
		if err != nil {
			return err
		}
		sent := make([]int64, len(events))
		for i, e := range events {
			if err := s.Stream.PublishEvent(ctx, e.ProjectID, fmt.Sprint(e.ID), api.Change(e.Body.V)); err != nil {
				return err
			}
			sent[i] = e.ID
		}
		if err := s.Store.DropEvents(ctx, sent); err != nil || len(events) < store.EventsAtOnce {
			return err // what has come meanwhile has poked again
		}
	}
}

// BeatTopic is woken when a runner should learn something with its next beat, now.
const BeatTopic = "beats"
