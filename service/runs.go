package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

func runOf(r store.Run) api.Run {
	return api.Run{Project: r.Project, Number: r.Number, Pipeline: r.Pipeline, Trigger: r.Trigger, Branch: r.Branch,
		Tag:    r.Tag,
		Commit: r.Commit, Subject: r.Subject, Author: r.Author, StartedBy: r.StartedBy, BuildNumber: r.BuildNumber,
		VersionName: r.VersionName, State: r.State, Reason: r.Reason, FailedAt: r.FailedAt,
		Queued: r.Queued, Started: r.Started, Finished: r.Finished, Target: r.Target, Proposal: r.Proposal,
		Outside:  r.Outside,
		Schedule: r.Schedule, CausedBy: r.CausedBy, Inputs: r.Inputs.V, Group: r.Group}
}

// RunFilter narrows a list of runs.
type RunFilter = store.RunFilter

// Runs lists a project's runs, newest first.
func (s *Service) Runs(ctx context.Context, project string, f RunFilter) (api.RunPage, error) {
	p, err := s.project(ctx, project)
	if err != nil {
		return api.RunPage{}, err
	}
	f.Limit++ // one more tells whether there is another page
	list, err := s.store.Runs(ctx, p.ID, f)
	if err != nil {
		return api.RunPage{}, err
	}
	page := api.RunPage{Runs: make([]api.Run, 0, len(list))}
	for i, r := range list {
		if i == f.Limit-1 {
			page.Next = page.Runs[i-1].Number
			break
		}
		page.Runs = append(page.Runs, runOf(r))
	}
	return page, nil
}

func (s *Service) run(ctx context.Context, project string, number int64) (store.Run, error) {
	r, err := s.store.RunByNumber(ctx, project, number)
	return r, known(err, "run %d of %s", number, project)
}

// StartRun starts a pipeline by hand at a branch, tag or commit.
func (s *Service) StartRun(ctx context.Context, project, person string, in api.StartRun) (api.Run, error) {
	return s.startRun(ctx, project, in, cause{person: person, inputs: in.Inputs})
}

func (s *Service) startRun(ctx context.Context, project string, in api.StartRun, why cause) (api.Run, error) {
	p, err := s.project(ctx, project)
	if err != nil {
		return api.Run{}, err
	}
	v, err := s.lookForPerson(ctx, p)
	if err != nil {
		return api.Run{}, err
	}
	defer v.close()
	event, err := v.resolve(in.Ref)
	if err != nil {
		return api.Run{}, v.notThere(in.Ref, project)
	}
	event.Pipeline = in.Pipeline
	if event.Branch == "" && event.Tag == "" {
		// A commit that no branch and no tag holds may be anybody's, such as a proposal's.
		held, err := v.repo.IsHeld(ctx, event.Commit)
		if err != nil {
			return api.Run{}, err
		}
		event.Outside = !held
	}
	return s.planByHand(ctx, p, v, event, why)
}

// planByHand plans a run that a person waits for the number of.
func (s *Service) planByHand(ctx context.Context, p store.Project, v *view, e plan.Event, why cause) (api.Run, error) {
	var run store.Run
	err := s.store.Tx(ctx, func(q store.Q) error {
		pl, err := s.planner(ctx, q, p, v)
		if err != nil {
			return err
		}
		if err := pl.checkInputs(ctx, e, why.inputs); err != nil {
			return err
		}
		made, err := pl.event(ctx, e, why)
		if err == nil && len(made) == 0 {
			return fmt.Errorf("no file piston/%s.toml at %.12s: %w", e.Pipeline, e.Commit, ErrNotFound)
		}
		if err != nil {
			return err
		}
		run = made[0]
		return note(ctx, q, act{name: "run.start", project: p.Name, subject: fmt.Sprint(run.Number),
			after: map[string]any{"pipeline": run.Pipeline,
				"branch": run.Branch, "tag": run.Tag, "commit": run.Commit, "inputs": run.Inputs.V}})
	})
	if err != nil {
		return api.Run{}, err
	}
	s.announce()
	return runOf(run), nil
}

// lookForPerson is look with errors that a person can do something about.
func (s *Service) lookForPerson(ctx context.Context, p store.Project) (*view, error) {
	v, err := s.look(ctx, p)
	if errors.Is(err, source.ErrNoRepository) {
		return nil, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	return v, err
}

// checkInputs refuses a start by hand with values that cannot be used, before there is a run.
func (pl *planner) checkInputs(ctx context.Context, e plan.Event, given map[string]string) error {
	snap, err := pl.view.at(ctx, e.Commit)
	if err != nil {
		return err
	}
	for _, f := range snap.check(pl.known).Files {
		if f.Name == e.Pipeline && f.Pipeline != nil {
			if _, _, err := definition.AcceptAll(f.Pipeline.Input, given); err != nil {
				return fmt.Errorf("%w: %w", ErrInvalid, err)
			}
		}
	}
	return nil
}

// resolve finds what a person means by a ref: a branch, a tag, or a commit, in this order; the main branch by none.
func (v *view) resolve(ref string) (plan.Event, error) {
	r := v.reader
	if ref == "" {
		ref = v.main
	}
	if c, err := r.Commit("refs/heads/" + ref); err == nil {
		return plan.Event{Trigger: plan.ByPerson, Branch: ref, Commit: c.ID}, nil
	}
	if c, err := r.Commit("refs/tags/" + ref); err == nil {
		return plan.Event{Trigger: plan.ByPerson, Tag: ref, Commit: c.ID}, nil
	}
	if len(ref) < 4 || strings.Trim(ref, "0123456789abcdef") != "" {
		return plan.Event{}, source.ErrNoObject
	}
	c, err := r.Commit(ref)
	return plan.Event{Trigger: plan.ByPerson, Commit: c.ID}, err
}

// StopRun ends a run: what waits is cancelled at once, what runs is asked to end.
func (s *Service) StopRun(ctx context.Context, project string, number int64, person string) error {
	found, err := s.run(ctx, project, number)
	if err != nil {
		return err
	}
	return s.stop(ctx, found.ID, state.Cancelled, "stopped by "+person, func(q store.Q) error {
		return note(ctx, q, act{name: "run.stop", project: project, subject: fmt.Sprint(number)})
	})
}

// stop ends a run; with it happens what else is to.
func (s *Service) stop(ctx context.Context, id int64, to state.State, reason string, with func(q store.Q) error) error {
	err := s.store.Tx(ctx, func(q store.Q) error {
		run, err := q.LockRun(ctx, id)
		if err != nil {
			return err
		}
		if run.State.Over() {
			return fmt.Errorf("run %d is over already (%s): %w", run.Number, run.State, ErrInvalid)
		}
		if err := cancelWaiting(ctx, q, run, to, reason); err != nil {
			return err
		}
		if err := s.settle(ctx, q, run, reason); err != nil {
			return err
		}
		return with(q)
	})
	if err == nil {
		s.announce()
		s.stream.Wake(beatTopic)
	}
	return err
}

// stopOverdue ends runs whose limit is over.
func (s *Service) stopOverdue(ctx context.Context) error {
	ids, err := s.store.OverdueRuns(ctx)
	for _, id := range ids {
		run, err := s.store.RunByID(ctx, id)
		if err != nil {
			return err
		}
		limit := time.Duration(run.LimitMs) * time.Millisecond
		err = s.stop(ctx, id, state.TimedOut, fmt.Sprintf("the run's limit of %s is over", limit),
			func(q store.Q) error { return q.LimitSpent(ctx, id) })
		if errors.Is(err, ErrInvalid) { // it is over already
			err = s.store.LimitSpent(ctx, id)
		}
		if err != nil {
			return err
		}
	}
	return err
}

// cancelWaiting ends every job of a run that no runner has, and asks the runners of the others to stop.
func cancelWaiting(ctx context.Context, q store.Q, run store.Run, to state.State, reason string) error {
	jobs, err := q.Jobs(ctx, run.ID)
	if err != nil {
		return err
	}
	attempts, err := q.Attempts(ctx, run.ID)
	if err != nil {
		return err
	}
	running := map[int64]bool{}
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
	return q.AskToStop(ctx, run.ID, to, reason)
}

// settle follows up what has changed in a run's jobs: jobs become ready or are skipped, and the run's own state
// follows from theirs. The run's row must be locked.
func (s *Service) settle(ctx context.Context, q store.Q, run store.Run, reason string) error {
	jobs, err := q.JobsToSettle(ctx, run.ID)
	if err != nil {
		return err
	}
	return s.settleJobs(ctx, q, run, jobs, reason)
}

func (s *Service) settleJobs(ctx context.Context, q store.Q, run store.Run, jobs []store.Job, reason string) error {
	planned := asPlanned(jobs)
	byName := make(map[string]store.Job, len(jobs))
	for _, j := range jobs {
		byName[j.Name] = j
	}
	now := time.Now()
	var ready []store.NewAttempt
	var settled []store.Job
	for _, changed := range plan.Settle(planned, run.Facts.V) {
		job := byName[changed.Name]
		job.State, job.Reason, job.Ready, job.Definition.V = changed.State, changed.Reason, changed.Ready, changed.Definition
		settled = append(settled, job)
		if changed.Ready {
			ready = append(ready, store.NewAttempt{Job: job, At: now})
		}
	}
	if err := q.SettleJobs(ctx, settled); err != nil {
		return err
	}
	if err := q.AddAttempts(ctx, run.ProjectID, ready); err != nil {
		return err
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
	if outcome == state.Passed {
		if err := noteFewerTests(ctx, q, run); err != nil {
			return err
		}
	}
	if err := recordEnd(ctx, q, run); err != nil {
		return err
	}
	return q.AddEvent(ctx, run.ProjectID, store.Change{Project: run.Project, Run: run.Number, State: outcome})
}

func asPlanned(jobs []store.Job) []plan.Job {
	list := make([]plan.Job, len(jobs))
	for i, j := range jobs {
		list[i] = plan.Job{Name: j.Name, State: j.State, Reason: j.Reason, Ready: j.Ready, Definition: j.Definition.V}
	}
	return list
}
