package work

import (
	"context"
	"time"
)

// Lease is how long a runner may be silent before its attempt counts as lost.
const Lease = 15 * time.Second

// MaxAttempts is how often a job is tried when its runner is lost.
const MaxAttempts = 3

// loseSilent looks for runners that have not reported. While the database was away nobody could report, so then
// every attempt gets a fresh lease first.
func (s *Work) loseSilent(ctx context.Context) error {
	if s.away {
		if err := s.Store.ExtendLeases(ctx, Lease); err != nil {
			return err
		}
		s.away = false
	}
	lost, err := s.Store.LostAttempts(ctx)
	if err != nil {
		s.away = true
		return err
	}
	for _, a := range lost {
		if err := s.Lose(ctx, a); err != nil {
			return err
		}
	}
	return nil
}
