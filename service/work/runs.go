package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// StopRun ends a run: what waits is cancelled at once, what runs is asked to end.
func (s *Work) StopRun(ctx context.Context, project string, number record.RunNumber, person string) error {
	found, err := s.FindRun(ctx, project, number)
	if err != nil {
		return err
	}
	return s.stop(ctx, found.ID, state.Cancelled, "stopped by "+person, func(q ground.Q) error {
		return q.Tell(ctx, fact.Fact{Kind: fact.RunStop, Project: project, Subject: fmt.Sprint(number)})
	})
}

// stop ends a run; with it happens what else is to.
func (s *Work) stop(ctx context.Context, id record.RunID, to state.State, reason string,
	with func(q ground.Q) error) error {
	err := s.Tx(ctx, func(q ground.Q) error {
		run, err := q.LockRun(ctx, id)
		if err != nil {
			return err
		}
		if run.State.Over() {
			return fmt.Errorf("run %d is over already (%s): %w", run.Number, run.State, ground.ErrInvalid)
		}
		if err := CancelWaiting(ctx, q, run, to, reason); err != nil {
			return err
		}
		if err := s.Settle(ctx, q, run, reason); err != nil {
			return err
		}
		return with(q)
	})
	return err
}

// stopOverdue ends runs whose limit is over.
func (s *Work) stopOverdue(ctx context.Context) error {
	ids, err := s.Store.OverdueRuns(ctx)
	for _, id := range ids {
		run, err := s.Store.RunByID(ctx, id)
		if err != nil {
			return err
		}
		limit := time.Duration(run.LimitMs) * time.Millisecond
		err = s.stop(ctx, id, state.TimedOut, fmt.Sprintf("the run's limit of %s is over", limit),
			func(q ground.Q) error { return q.LimitSpent(ctx, id) })
		if errors.Is(err, ground.ErrInvalid) { // it is over already
			err = s.Store.LimitSpent(ctx, id)
		}
		if err != nil {
			return err
		}
	}
	return err
}

// CancelWaiting ends every job of a run that no runner has, and asks the runners of the others to stop.
func CancelWaiting(ctx context.Context, q ground.Q, run store.Run, to state.State, reason string) error {
	jobs, err := q.Jobs(ctx, run.ID)
	if err != nil {
		return err
	}
	attempts, err := q.Attempts(ctx, run.ID)
	if err != nil {
		return err
	}
	running := map[record.JobID]bool{}
	for _, a := range attempts {
		running[a.JobID] = a.State == state.Running
		if a.State != state.Queued {
			continue
		}
		if err := q.EndAttempt(ctx, a.ID, to, reason, time.Now(), 0); err != nil {
			if !errors.Is(err, store.ErrNotFound) {
				return err
			}
			running[a.JobID] = true // a runner claimed it this moment
			continue
		}
		if err := q.EndSteps(ctx, a.ID, to, state.Cancelled, time.Now()); err != nil {
			return err
		}
	}
	for _, j := range jobs {
		if !j.State.Over() && !running[j.ID] {
			if err := q.SetJob(ctx, j.ID, to, reason, j.Ready); err != nil {
				return err
			}
		}
	}
	if err := q.CancelGates(ctx, run.ID); err != nil {
		return err
	}
	if err := q.AskToStop(ctx, run.ID, to, reason); err != nil {
		return err
	}
	if err := wakeOwn(ctx, q, run.ID); err != nil {
		return err
	}
	return q.Tell(ctx, ground.OfRun(fact.RunEnding, run))
}

// Settle follows up what has changed in a run's jobs: jobs become ready or are skipped, and the run's own state
// follows from theirs. The run's row must be locked.
func (s *Work) Settle(ctx context.Context, q ground.Q, run store.Run, reason string) error {
	jobs, err := q.JobsToSettle(ctx, run.ID)
	if err != nil {
		return err
	}
	return s.SettleJobs(ctx, q, run, jobs, reason)
}

func (s *Work) SettleJobs(ctx context.Context, q ground.Q, run store.Run, jobs []store.Job, reason string) error {
	planned := AsPlanned(jobs)
	byName := make(map[string]store.Job, len(jobs))
	for _, j := range jobs {
		byName[j.Name] = j
	}
	now := time.Now()
	var ready []store.NewAttempt
	var settled, asked []store.Job
	for _, changed := range plan.Settle(planned, run.Facts.V) {
		job := byName[changed.Name]
		job.State, job.Reason, job.Ready, job.Definition.V = changed.State, changed.Reason, changed.Ready, changed.Definition
		settled = append(settled, job)
		switch {
		case changed.State == state.Waiting:
			asked = append(asked, job)
		case changed.Ready:
			ready = append(ready, store.NewAttempt{Job: job, At: now})
		}
	}
	if err := q.SettleJobs(ctx, settled); err != nil {
		return err
	}
	if err := q.AddAttempts(ctx, run.ProjectID, ready); err != nil {
		return err
	}
	for _, job := range asked {
		if err := askOfJob(ctx, q, run, job, now); err != nil {
			return err
		}
	}
	outcome := plan.Outcome(planned)
	var started, finished *time.Time
	if outcome != state.Queued {
		started = &now
	}
	if outcome.Over() {
		finished = &now
	} else {
		reason = ""
	}
	if outcome == state.Passed {
		reason = ""
	}
	if err := q.SetRunState(ctx, run.ID, outcome, reason, started, finished); err != nil {
		return err
	}
	run.State = outcome
	if err := settleVersions(ctx, q, run); err != nil {
		return err
	}
	if outcome == state.Passed {
		if err := noteFewerTests(ctx, q, run); err != nil {
			return err
		}
	}
	if err := RecordEnd(ctx, q, run); err != nil {
		return err
	}
	return q.Tell(ctx, ground.OfRun(fact.RunChanged, run))
}

func AsPlanned(jobs []store.Job) []plan.Job {
	list := make([]plan.Job, len(jobs))
	for i, j := range jobs {
		list[i] = plan.Job{Name: j.Name, State: j.State, Reason: j.Reason, Ready: j.Ready, Definition: j.Definition.V}
	}
	return list
}
