package service

import (
	"context"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/store"
)

// background starts the loops that run beside requests. Each looks at the records only, so any number of servers
// may run them at the same time, and what a crash cut short is found again.
func (s *Service) background() {
	s.loop(time.Second, s.kick, "publishing events", s.publish)
	s.loop(time.Second, nil, "looking for lost runners", s.loseSilent)
	s.loop(2*time.Second, s.moves, "moving logs", s.moveLogs)
	s.loop(2*time.Second, s.ends, "planning pushes left behind", s.planLeftBehind)
	s.loop(time.Second, nil, "starting what is due", s.startDue)
	s.loop(time.Second, nil, "ending runs over their limit", s.stopOverdue)
	s.loop(10*time.Millisecond, nil, "handing out jobs", s.dispatch.run) // for as long as the service lives
	s.loop(2*time.Second, nil, "collecting pushes that were missed", s.collectMissed)
	s.loop(sweepEvery, nil, "giving up what is kept no longer", s.sweep)
	s.loop(10*time.Second, nil, "making room on the disk", s.makeRoom)
	s.loop(time.Hour, nil, "dropping expired sessions", s.store.DropExpired)
}

// loop does a piece of upkeep every so often, and when poked. A failure is logged once until it changes.
func (s *Service) loop(every time.Duration, poked chan struct{}, what string, do func(context.Context) error) {
	s.work.Add(1)
	go func() {
		defer s.work.Done()
		last := ""
		for {
			select {
			case <-time.After(every):
			case <-poked:
			case <-s.life.Done():
				return
			}
			err := do(s.life)
			if s.life.Err() != nil {
				return
			}
			if text := fmt.Sprint(err); err != nil && text != last {
				s.log.Warn(what+" failed; trying again", "error", err)
				last = text
			} else if err == nil {
				last = ""
			}
		}
	}()
}

// publish sends what is in the outbox. An event that was sent and not removed is sent again under the same id,
// which the stream takes for the same.
func (s *Service) publish(ctx context.Context) error {
	for {
		n := 0
		err := s.store.Tx(ctx, func(q store.Q) error {
			events, err := q.TakeEvents(ctx)
			if err != nil {
				return err
			}
			n = len(events)
			for _, e := range events {
				if err := s.stream.PublishEvent(ctx, e.ProjectID, fmt.Sprint(e.ID), api.Change(e.Body.V)); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil || n == 0 {
			return err
		}
	}
}

// loseSilent looks for runners that have not reported. While the database was away nobody could report, so then
// every attempt gets a fresh lease first.
func (s *Service) loseSilent(ctx context.Context) error {
	if s.away {
		if err := s.store.ExtendLeases(ctx, Lease); err != nil {
			return err
		}
		s.away = false
	}
	lost, err := s.store.LostAttempts(ctx)
	if err != nil {
		s.away = true
		return err
	}
	for _, a := range lost {
		if err := s.lose(ctx, a); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) planLeftBehind(ctx context.Context) error {
	ids, err := s.store.UnplannedPushes(ctx, time.Now().Add(-spoolAge))
	for _, id := range ids {
		s.planRecorded(ctx, id)
	}
	return err
}
