package work

import (
	"context"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// onlineFor is how long after its last sign of life a runner counts as there: a claim is held open for up to 30 s.
const onlineFor = 45 * time.Second

// Runners lists the machines that have asked for work, by name.
func (s *Work) Runners(ctx context.Context, page api.Page) ([]api.Runner, error) {
	list, err := s.Store.Runners(ctx, store.Page(page))
	if err != nil {
		return nil, err
	}
	busy, err := s.Store.Busy(ctx)
	out := make([]api.Runner, len(list))
	for i, r := range list {
		out[i] = MachineOf(r, busy[r.Name])
	}
	return out, err
}

// MachineOf is a runner as people see it, with how many jobs it has.
func MachineOf(r store.Runner, busy int) api.Runner {
	return api.Runner{Name: r.Name, Labels: ground.NonNil(r.Labels), Platform: r.Platform, Slots: r.Slots, Busy: busy,
		Seen: r.Seen, Online: online(r),
		Tools: ground.NonNone(r.Tools.V), Version: r.Version, Held: r.Held, HeldBy: r.HeldBy, ClockMs: r.ClockMs}
}

// HoldRunner lets a runner finish what it has and hands it no more; with an empty reason it is given jobs again.
func (s *Work) HoldRunner(ctx context.Context, name, reason string) (api.Runner, error) {
	by := ground.WhoAsks(ctx).Name
	if reason == "" {
		by = ""
	}
	var now store.Runner
	err := s.Tx(ctx, func(q ground.Q) error {
		was, err := q.RunnerByName(ctx, name)
		if err == nil {
			err = q.HoldRunner(ctx, name, reason, by)
		}
		if err == nil {
			now, err = q.RunnerByName(ctx, name)
		}
		if err != nil {
			return ground.Known(err, "runner %s", name)
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.RunnerHold, Subject: name,
			Before: map[string]string{"reason": was.Held}, After: map[string]string{"reason": reason}})
	})
	if err != nil {
		return api.Runner{}, err
	}
	busy, err := s.Store.Busy(ctx)
	return MachineOf(now, busy[name]), err
}

// ForgetRunner removes a runner from the lists that is away.
func (s *Work) ForgetRunner(ctx context.Context, name string) error {
	return s.Tx(ctx, func(q ground.Q) error {
		r, err := q.RunnerByName(ctx, name)
		if err != nil {
			return ground.Known(err, "runner %s", name)
		}
		if online(r) {
			return fmt.Errorf("runner %s is there; end it first: %w", name, ground.ErrInvalid)
		}
		if err := q.ForgetRunner(ctx, name, onlineFor); err != nil {
			return ground.Known(err, "runner %s has a job at hand, or has come back, so it cannot be forgotten", name)
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.RunnerForget, Subject: name,
			Before: map[string]any{"labels": r.Labels, "seen": r.Seen}})
	})
}
