package work

import (
	"context"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// OwnDue is a job that takes no machine, whose steps the service is to do, or to go on with.
type OwnDue struct {
	Attempt record.AttemptID `json:"attempt"`
	Wake    bool             `json:"wake,omitempty"` // it is looked at anyway, but not now
}

// Kind implements river.JobArgs.
func (OwnDue) Kind() string { return "own-job" }

// Itself is what stands for the runner of the service's own jobs.
const Itself = "the service"

// takeOwn takes the service's own jobs from the queue as a runner does, so that holds, groups and limits are for them,
// too. What it has taken holds nothing here: it is done as background work, and may take days.
func (s *Work) takeOwn(ctx context.Context) error {
	ask := api.ClaimRequest{Runner: Itself, Labels: []string{definition.ServiceMachine}, WaitMs: 60_000}
	given, err := s.dispatch.wait(ground.AsItself(ctx), ask, 0, 0, 0)
	if err != nil || given.attempt == nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		if err := q.TakeOver(ctx, given.attempt.ID); err != nil {
			return err
		}
		return q.PutOff(ctx, OwnDue{Attempt: given.attempt.ID})
	})
}

// Steps is what is told of a step of the service's own.
func (s *Work) Steps(ctx context.Context, a store.Attempt, report api.StepReport) error {
	report.At = time.Now().UnixMilli()
	return s.ReportSteps(ctx, a.ID, []api.StepReport{report})
}

// wakeOwn has the service look at its own jobs of a run that is to stop.
func wakeOwn(ctx context.Context, q ground.Q, run record.RunID) error {
	ids, err := q.OwnAttempts(ctx, run)
	for _, id := range ids {
		if err == nil {
			err = q.PutOff(ctx, OwnDue{Attempt: id, Wake: true})
		}
	}
	return err
}
