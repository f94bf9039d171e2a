package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/traced"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/store"
)

// beatWait is how long a beat is held open for news; well below the lease.
const beatWait = 4 * time.Second

// Claim hands a runner the next job it can do, waiting a while for one; nil when there is none.
func (s *Work) Claim(ctx context.Context, in api.ClaimRequest) (c api.Claimed, err error) {
	recipient, err := age.ParseX25519Recipient(in.Recipient)
	if err != nil {
		return c, fmt.Errorf("the runner's recipient is %w: %w", ground.ErrInvalid, err)
	}
	if err := understood(in); err != nil {
		return c, err
	}
	clock := int64(0)
	if in.Now != 0 {
		clock = time.Now().UnixMilli() - in.Now
	}
	err = s.Store.SeeRunner(ctx, seen(in, clock), onlineFor)
	if errors.Is(err, store.ErrTaken) {
		return c, fmt.Errorf("another runner called %s is there: give this one a --name of its own, or end that one; the "+
			"name is %w for two", in.Runner, ground.ErrInvalid)
	}
	if err != nil {
		return c, err
	}
	w := ground.WhoAsks(ctx)
	given, err := s.dispatch.wait(ctx, in, w.Token, w.ProjectID, clock)
	if err != nil || given.attempt == nil {
		return api.Claimed{LookFor: given.lookFor}, err
	}
	c.Work, err = s.pack(ctx, *given.attempt, recipient)
	return c, err
}

// understood refuses runners that speak another version of this interface.
func understood(in api.ClaimRequest) error {
	if slices.Contains(in.Labels, definition.ServiceMachine) {
		return fmt.Errorf("the label %s is the service's own: %w for a runner", definition.ServiceMachine, ground.ErrInvalid)
	}
	speaks := max(in.Protocol, 1)
	if speaks >= api.LeastRunnerProtocol && speaks <= api.RunnerProtocol {
		return nil
	}
	which := "newer than the service: update the service first"
	if speaks < api.LeastRunnerProtocol {
		which = "too old for the service: update it"
	}
	return fmt.Errorf("runner %s (%s) is %s; it speaks version %d of the interface, and the service %d to %d: %w",
		in.Runner, in.Version, which, speaks,
		api.LeastRunnerProtocol, api.RunnerProtocol, ground.ErrInvalid)
}

// pack gathers what the runner of an attempt needs.
func (s *Work) pack(ctx context.Context, attempt store.Attempt, recipient age.Recipient) (*api.Work, error) {
	run, err := s.Store.RunByID(ctx, attempt.RunID)
	if err != nil {
		return nil, err
	}
	job, err := s.Store.JobByID(ctx, attempt.JobID)
	if err != nil {
		return nil, err
	}
	project, err := s.Store.ProjectByID(ctx, run.ProjectID)
	if err != nil {
		return nil, err
	}
	remote, sources, err := s.sources(ctx, run.ProjectID)
	if err != nil {
		return nil, err
	}
	w := &api.Work{Attempt: attempt.ID, Number: attempt.Number, Project: run.Project, Run: run.Number,
		Pipeline: run.Pipeline,
		Job:      job.Definition.V, Commit: run.Commit, Remote: remote, Sources: sources, Env: runEnv(run),
		LeaseMs: int(Lease.Milliseconds()), CachesApart: run.Guard != "",
		HostNetwork: project.HostNet && !run.Outside, Own: !run.Outside, Fresh: run.Anew == store.Fresh,
		Audit: run.Anew == store.Audit, Trace: traced.OfRun(run.ID, run.Queued, run.Reopenings).String()}
	switch {
	case run.Branch != "":
		w.Ref = "refs/heads/" + run.Branch
	case run.Tag != "":
		w.Ref = "refs/tags/" + run.Tag
	}
	if len(w.Job.Take) > 0 {
		if w.Takes, err = s.takes(ctx, run, job); err != nil {
			return nil, err
		}
	}
	if w.Raised, err = s.raisedBefore(ctx, run, job); err != nil {
		return nil, err
	}
	given, err := s.secrets.SecretsFor(ctx, run, job, recipient)
	w.Secrets, w.SecretKinds, w.SecretRevisions = given.Sealed, given.Kinds, given.Revisions
	return w, err
}

// takes lists what earlier jobs hand to one, each as JOB/NAME: a job with variants hands on from each of them.
func (s *Work) takes(ctx context.Context, run store.Run, job store.Job) ([]string, error) {
	all, err := s.jobsOf(ctx, run)
	if err != nil {
		return nil, err
	}
	return all.Takes(job.Definition.V), nil
}

// jobsOf is a run's jobs, as a pipeline has them.
func (s *Work) jobsOf(ctx context.Context, run store.Run) (*definition.Pipeline, error) {
	jobs, err := s.Store.Jobs(ctx, run.ID)
	all := &definition.Pipeline{Job: map[string]*definition.Job{}}
	for _, j := range jobs {
		all.Job[j.Name] = j.Definition.V
	}
	return all, err
}

// sources gives a project's remote, and where its source, and that of each project that lends it its own, is to be had
// from this service.
func (s *Work) sources(ctx context.Context, project record.ProjectID) (remote string, paths map[string]string,
	err error) {
	list, err := s.Store.SourcesFor(ctx, project)
	paths = map[string]string{}
	for _, p := range list {
		paths[p.Remote] = "/git/" + p.Name
		if p.ID == project {
			remote = p.Remote
		}
	}
	return remote, paths, err
}

// MayRead reports whether a runner has a job at hand that may read a project's source.
func (s *Work) MayRead(ctx context.Context, w ground.Who, project string) (bool, error) {
	return s.Store.IsSourceOf(ctx, project, w.Token)
}

// IsHolder reports whether an attempt is, or was, a runner's.
func (s *Work) IsHolder(ctx context.Context, w ground.Who, attempt record.AttemptID) (bool, error) {
	return s.Store.IsOfToken(ctx, attempt, w.Token)
}

// Beat extends an attempt's lease. It is held open for a few seconds so that news reach the runner at once.
func (s *Work) Beat(ctx context.Context, attempt record.AttemptID) (api.Beat, error) {
	woken, cancel, err := s.Stream.OnWake(ground.BeatTopic)
	if err != nil {
		return api.Beat{}, err
	}
	defer cancel()
	a, err := s.Store.Beat(ctx, attempt, Lease)
	if err != nil {
		return api.Beat{}, ground.Gone(err, attempt)
	}
	if err := s.Store.TouchRunner(ctx, a.Runner); err != nil {
		return api.Beat{}, err
	}
	deadline := time.After(beatWait)
	for !a.Stop {
		select {
		case <-woken:
			if a, err = s.Store.IsRunning(ctx, attempt); err != nil {
				return api.Beat{}, ground.Gone(err, attempt)
			}
			continue
		case <-deadline:
		case <-ctx.Done():
		case <-s.Life.Done():
		}
		break
	}
	beat := api.Beat{Stop: a.Stop, Reason: a.StopReason}
	if a.Stop {
		beat.State = a.StopState
	}
	return beat, nil
}

// change tells the stream that something about an attempt's run is different.
func change(ctx context.Context, q ground.Q, a store.Attempt) error {
	run, err := q.RunByID(ctx, a.RunID)
	if err != nil {
		return err
	}
	return q.Tell(ctx, ground.OfRun(fact.RunGoesOn, run))
}

// seen is what a runner says of itself, for the records.
func seen(in api.ClaimRequest, clockMs int64) store.Runner {
	r := store.Runner{Name: in.Runner, Labels: in.Labels, Platform: in.Platform, Slots: in.Slots, Instance: in.Instance,
		Version: in.Version, ClockMs: clockMs, Lacks: in.Lacks}
	r.Tools.V = in.Tools
	if in.Host != nil {
		r.Host.V = store.RunnerHost(*in.Host)
	}
	return r
}

// Prepared notes that a runner has checkout and caches in place.
func (s *Work) Prepared(ctx context.Context, attempt record.AttemptID, in api.Prepared) error {
	err := s.Tx(ctx, func(q ground.Q) error {
		a, err := q.RunningAttempt(ctx, attempt)
		if err != nil {
			return err
		}
		if err := q.SetPrepared(ctx, attempt, a.At(in.At)); err != nil {
			return err
		}
		if err := noteCaches(ctx, q, attempt, in.Caches); err != nil {
			return err
		}
		return change(ctx, q, a)
	})
	return ground.Gone(err, attempt)
}

// noteCaches writes what came of caches in an attempt.
func noteCaches(ctx context.Context, q ground.Q, attempt record.AttemptID, uses []api.CacheUse) error {
	for _, u := range uses {
		err := q.SetCacheUse(ctx, store.CacheUse{AttemptID: attempt, Name: u.Name, Key: u.Key, Hit: u.Hit, Saved: u.Saved,
			Size: u.Size, TookMs: u.TookMs, Note: u.Note, Nearest: u.Nearest, Source: u.Run, Line: u.Line, Here: u.Here,
			Stored: u.Stored, Differs: store.JSON[[]string]{V: ground.NonNil(u.Differs)}})
		if err != nil {
			return err
		}
	}
	return nil
}

// stepOf is what a runner tells of a step, for the records.
func stepOf(attempt record.AttemptID, r api.StepReport) store.Step {
	s := store.Step{AttemptID: attempt, Position: r.Step, State: r.State, Reason: r.Reason, ExitCode: r.ExitCode,
		FirstLine: r.FirstLine, LastLine: r.LastLine, Note: r.Note}
	s.Excerpt.V, s.Tests.V, s.Reuse.V = r.Excerpt, (*store.TestReport)(r.Tests), (*store.Reuse)(r.Reuse)
	return s
}

// ReportSteps notes that steps began or ended.
func (s *Work) ReportSteps(ctx context.Context, attempt record.AttemptID, steps []api.StepReport) error {
	err := s.Tx(ctx, func(q ground.Q) error {
		a, err := q.RunningAttempt(ctx, attempt)
		if err != nil {
			return err
		}
		for _, r := range steps {
			if err := q.SetStep(ctx, stepOf(attempt, r), a.At(r.At)); err != nil {
				return err
			}
		}
		return change(ctx, q, a)
	})
	return ground.Gone(err, attempt)
}

// FinishAttempt ends an attempt as its runner reports. Doing it again with the same outcome is no error, since the
// answer to the first may have been lost.
func (s *Work) FinishAttempt(ctx context.Context, attempt record.AttemptID, in api.Finish) error {
	before, err := s.Store.AttemptByID(ctx, attempt)
	if err != nil {
		return ground.Gone(err, attempt)
	}
	if before.State == in.State && before.Finished != nil && before.Finished.Equal(before.At(in.At)) {
		return nil
	}
	failed := failing{s.Ground}.whatFailed(ctx, before, in)
	return s.ending(ctx, before, func(q ground.Q, run store.Run, a store.Attempt) error {
		if err := noteCaches(ctx, q, attempt, in.Caches); err != nil {
			return err
		}
		if failed != nil {
			if err := q.AddFailure(ctx, run, *failed); err != nil {
				return err
			}
		}
		if err := s.end(ctx, q, run, a, in.State, in.Reason, a.At(in.At), in.Lines); err != nil {
			return err
		}
		return stay(ctx, q, run, a, in.State)
	})
}

// ending does what ends a running attempt, with its run's row locked, and tells whom it concerns.
func (s *Work) ending(ctx context.Context, before store.Attempt,
	end func(q ground.Q, run store.Run, a store.Attempt) error) error {
	err := s.Tx(ctx, func(q ground.Q) error {
		run, err := q.LockRun(ctx, before.RunID)
		if err != nil {
			return err
		}
		a, err := q.RunningAttempt(ctx, before.ID)
		if err != nil {
			return err
		}
		return end(q, run, a)
	})
	return ground.Gone(err, before.ID)
}

// HandBack puts an attempt's job back into the queue since its runner is being ended: that is nobody's failure, and
// counts as no try. Doing it again is no error.
func (s *Work) HandBack(ctx context.Context, attempt record.AttemptID, in api.HandBack) error {
	before, err := s.Store.AttemptByID(ctx, attempt)
	if err != nil || before.HandedBack {
		return ground.Gone(err, attempt)
	}
	lines, err := s.Stream.LastLine(ctx, logs.LogOf(before))
	if err != nil {
		return err
	}
	return s.ending(ctx, before, func(q ground.Q, run store.Run, a store.Attempt) error {
		now := time.Now()
		if a.Stop {
			return s.end(ctx, q, run, a, a.StopState, a.StopReason, now, lines)
		}
		job, err := q.JobByID(ctx, a.JobID)
		if err != nil {
			return err
		}
		if err := q.MarkHandedBack(ctx, a.ID); err != nil {
			return err
		}
		if err := endAttempt(ctx, q, a, state.Cancelled, in.Reason, now, lines); err != nil {
			return err
		}
		return s.again(ctx, q, run, job, 0, in.Reason, now)
	})
}

// end ends an attempt, and its job unless that is tried again. The run's row must be locked.
func (s *Work) end(ctx context.Context, q ground.Q, run store.Run, a store.Attempt, to state.State, reason string,
	at time.Time, lines int64) error {
	if err := endAttempt(ctx, q, a, to, reason, at, lines); err != nil {
		return err
	}
	if again, err := s.retry(ctx, q, run, a, to, reason, at); again || err != nil {
		return err
	}
	if to == state.Passed {
		question, err := askedAfter(ctx, q, a.ID)
		if err != nil {
			return err
		}
		if question != nil {
			if err := ask(ctx, q, run, a.JobID, question, at); err != nil {
				return err
			}
			to = state.Waiting
		}
	}
	if err := q.SetJob(ctx, a.JobID, to, reason, true); err != nil {
		return err
	}
	if to == state.Failed || to == state.TimedOut {
		if err := q.NoteFailure(ctx, run.ID, a.ID); err != nil {
			return err
		}
	}
	return s.Settle(ctx, q, run, reason)
}

func endAttempt(ctx context.Context, q ground.Q, a store.Attempt, to state.State, reason string, at time.Time,
	lines int64) error {
	if err := q.EndAttempt(ctx, a.ID, to, reason, at, lines); err != nil {
		return err
	}
	left := state.Skipped
	if to == state.Cancelled {
		left = state.Cancelled
	}
	if err := q.EndSteps(ctx, a.ID, to, left, at); err != nil {
		return err
	}
	if err := q.AddSpans(ctx, a.ID); err != nil {
		return err
	}
	return q.Tell(ctx, fact.Fact{Kind: fact.JobEnded})
}

// retry queues another attempt where the job's definition wants one after such a failure.
func (s *Work) retry(ctx context.Context, q ground.Q, run store.Run, a store.Attempt, to state.State, reason string,
	now time.Time) (bool, error) {
	if to != state.Failed && to != state.TimedOut || a.Stop {
		return false, nil
	}
	job, err := q.JobByID(ctx, a.JobID)
	if err != nil {
		return false, err
	}
	step, err := q.FailedStep(ctx, a.ID)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil // it failed outside its steps
	}
	if err != nil {
		return false, err
	}
	all, lost, err := q.Tries(ctx, job.ID)
	if err != nil {
		return false, err
	}
	wait, again := plan.Retry(job.Definition.V, step.Name, step.ExitCode, all-lost)
	if !again {
		return false, nil
	}
	return true, s.again(ctx, q, run, job, wait, reason, now)
}

// Lose handles an attempt whose runner has gone silent: the job is tried again, a few times.
func (s *Work) Lose(ctx context.Context, lost store.Attempt) error {
	lines, err := s.Stream.LastLine(ctx, logs.LogOf(lost))
	if err != nil {
		return err
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		run, err := q.LockRun(ctx, lost.RunID)
		if err != nil {
			return err
		}
		a, err := q.RunningAttempt(ctx, lost.ID)
		if err != nil || a.LeaseUntil == nil || a.LeaseUntil.After(time.Now()) {
			return err // it has reported after all
		}
		reason := fmt.Sprintf("runner %s was lost: no sign of life for %s", a.Runner, Lease)
		now := time.Now()
		if a.Stop {
			return s.end(ctx, q, run, a, a.StopState, a.StopReason, now, lines)
		}
		if err := q.MarkLost(ctx, a.ID); err != nil {
			return err
		}
		_, times, err := q.Tries(ctx, a.JobID)
		if err != nil {
			return err
		}
		if times >= MaxAttempts {
			return s.end(ctx, q, run, a, state.Failed, fmt.Sprintf("%s, for the %d. time", reason, times), now, lines)
		}
		job, err := q.JobByID(ctx, a.JobID)
		if err != nil {
			return err
		}
		if err := endAttempt(ctx, q, a, state.Failed, reason, now, lines); err != nil {
			return err
		}
		return s.again(ctx, q, run, job, 0, reason, now)
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	s.Log.Warn("a runner was lost", "runner", lost.Runner, "attempt", lost.ID)
	return err
}

// again queues a new attempt of a job.
func (s *Work) again(ctx context.Context, q ground.Q, run store.Run, job store.Job, wait time.Duration, reason string,
	now time.Time) error {
	if err := q.SetJob(ctx, job.ID, state.Queued, reason, true); err != nil {
		return err
	}
	if err := q.AddAttempts(ctx, run.ProjectID, []store.NewAttempt{{Job: job, At: now, Wait: wait}}); err != nil {
		return err
	}
	return s.Settle(ctx, q, run, "")
}
