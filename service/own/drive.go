package own

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

const (
	// driveWithin is how long one look at a job may take.
	driveWithin = 3 * time.Minute
	// lookSoon is when a job is looked at again that another server has in hand, or whose step could not be done since
	// a part of the service is away.
	lookSoon = 3 * time.Second
)

// job is an attempt of the service's own that is gone on with.
type job struct {
	*Own
	run     store.Run
	attempt store.Attempt
	def     *definition.Job
	steps   []store.Step
	log     log
}

// due goes on with a job as far as it comes.
func (s *Own) due(ctx context.Context, of work.OwnDue) error {
	ctx, cancel := context.WithTimeout(ground.AsItself(ctx), driveWithin)
	defer cancel()
	a, err := s.Store.Drive(ctx, of.Attempt, ground.HoldFor)
	if errors.Is(err, store.ErrNotFound) {
		now, err := s.Store.IsRunning(ctx, of.Attempt)
		if err != nil || now.LeaseUntil != nil {
			return ignore(err, store.ErrNotFound) // it is over, or a runner's
		}
		return ground.InAWhile(lookSoon) // another server has it in hand
	}
	if err != nil {
		return err
	}
	letHold := ground.Holding(ctx, func(ctx context.Context) error {
		return s.Store.GoOnDriving(ctx, a.ID, ground.HoldFor)
	})
	again, err := s.goOn(ctx, a)
	letHold()
	if letGo := s.Store.LetGo(context.WithoutCancel(ctx), a.ID); err == nil {
		err = letGo
	}
	if err != nil && (ground.Away(err) != "" || ctx.Err() != nil) {
		return ground.InAWhile(lookSoon)
	}
	// There is work that looks again and again; what wakes it does so until it is to wait for long.
	if err == nil && again > 0 && (!of.Wake || again < publishAgain) {
		return ground.InAWhile(max(again, lookSoon))
	}
	return err
}

// ignore takes an error that means nothing here for none.
func ignore(err, what error) error {
	if errors.Is(err, what) {
		return nil
	}
	return err
}

// goOn does the steps that are to be done now. again says when to look again; 0 when the job is over.
func (s *Own) goOn(ctx context.Context, a store.Attempt) (again time.Duration, err error) {
	j := &job{Own: s, attempt: a}
	if j.run, err = s.Store.RunByID(ctx, a.RunID); err != nil {
		return 0, err
	}
	of, err := s.Store.JobByID(ctx, a.JobID)
	if err != nil {
		return 0, err
	}
	j.def = of.Definition.V
	if j.steps, err = s.Store.StepsOfAttempt(ctx, a.ID); err != nil {
		return 0, err
	}
	if j.log, err = s.openLog(ctx, a); err != nil {
		return 0, err
	}
	if a.Stop {
		if err := s.publications.Abandon(ctx, a.ID); err != nil {
			return 0, err
		}
		return 0, j.finish(ctx, a.StopState, a.StopReason)
	}
	if limit := j.def.Limit.Value(); limit > 0 && a.Claimed != nil && time.Since(*a.Claimed) > limit {
		return 0, j.finish(ctx, state.TimedOut, fmt.Sprintf("the job's limit of %s is over", limit))
	}
	failed := ""
	for i, step := range j.def.Step {
		if !j.steps[i].State.Over() {
			if again, err = j.step(ctx, i, step, failed != ""); again > 0 || err != nil {
				return again, err
			}
		}
		if bad(j.steps[i].State) && !step.Advisory && failed == "" {
			failed = step.Name + ": " + j.steps[i].Reason
		}
	}
	if failed != "" {
		return 0, j.finish(ctx, state.Failed, failed)
	}
	return 0, j.finish(ctx, state.Passed, "")
}

func bad(s state.State) bool { return s == state.Failed || s == state.TimedOut }

// step does one, unless it is to be passed by.
func (j *job) step(ctx context.Context, i int, step *definition.Step, failed bool) (again time.Duration, err error) {
	switch {
	case step.Skip != "":
		return 0, j.ended(ctx, i, state.Skipped, step.Skip)
	case failed && !step.Always:
		return 0, j.ended(ctx, i, state.Skipped, "a step before it failed")
	}
	if j.steps[i].State == state.Queued {
		j.steps[i].FirstLine = j.log.next
		err := j.work.Steps(ctx, j.attempt, api.StepReport{Step: i, State: state.Running, FirstLine: j.log.next})
		if err != nil {
			return 0, err
		}
	}
	again, err = j.do(ctx, i, step)
	switch {
	case err != nil && (ground.Away(err) != "" || ctx.Err() != nil):
		return lookSoon, nil
	case err != nil:
		if err := j.say(ctx, i, "%v", err); err != nil {
			return 0, err
		}
		return 0, j.ended(ctx, i, state.Failed, err.Error())
	case again > 0:
		return again, nil
	}
	return 0, j.ended(ctx, i, state.Passed, "")
}

// do carries out a step; again says when to look again at one that waits.
func (j *job) do(ctx context.Context, i int, step *definition.Step) (again time.Duration, err error) {
	switch {
	case step.Release != nil:
		r, err := j.releases.Make(ctx, j.run, step.Release.App, "")
		if err != nil {
			return 0, err
		}
		return 0, j.say(ctx, i, "%s %s is released", r.App, r.Name)
	case step.Publish != nil:
		return j.publish(ctx, i, step.Publish)
	case step.Land != nil:
		return j.land(ctx, i)
	}
	return 0, fmt.Errorf("step %d is nothing that the service does: %w", i+1, ground.ErrInvalid)
}

// ended tells that a step is over.
func (j *job) ended(ctx context.Context, i int, to state.State, reason string) error {
	if len(reason) > maxReason {
		reason = reason[:maxReason] + "…"
	}
	j.steps[i].State, j.steps[i].Reason = to, reason
	report := api.StepReport{Step: i, State: to, Reason: reason, FirstLine: j.steps[i].FirstLine, LastLine: j.log.next - 1}
	if bad(to) {
		report.Excerpt = j.log.last(i)
	}
	return j.work.Steps(ctx, j.attempt, report)
}

// maxReason bounds what is told of why a step failed, in bytes.
const maxReason = 3000

// finish ends the job.
func (j *job) finish(ctx context.Context, to state.State, reason string) error {
	err := j.work.FinishAttempt(ctx, j.attempt.ID, api.Finish{State: to, Reason: reason, At: time.Now().UnixMilli(),
		Lines: j.log.next - 1})
	return ignore(err, ground.ErrGone)
}
