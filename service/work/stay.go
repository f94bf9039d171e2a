package work

import (
	"context"
	"errors"

	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// stay has the workspace of an attempt that ends stay where somebody has asked for it, or where the job has failed for
// good and its pipeline wants it.
func stay(ctx context.Context, q ground.Q, run store.Run, a store.Attempt, to state.State) error {
	err := q.BeginStay(ctx, a.ID)
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if to != state.Failed && to != state.TimedOut || run.Outside { // strangers do not say what a machine keeps
		return nil
	}
	job, err := q.JobByID(ctx, a.JobID)
	if err != nil {
		return err
	}
	long := job.Definition.V.Stay.Value()
	// Of a job that is tried again the last try tells more.
	if long <= 0 || job.State != to {
		return nil
	}
	if err := q.AskStay(ctx, a, long, ""); err != nil {
		return err
	}
	return q.BeginStay(ctx, a.ID)
}
