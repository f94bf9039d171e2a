package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

func runOf(r store.Run) api.Run {
	return api.Run{Project: r.Project, Number: r.Number, Pipeline: r.Pipeline, Trigger: r.Trigger, Branch: r.Branch, Tag: r.Tag,
		Commit: r.Commit, Subject: r.Subject, Author: r.Author, StartedBy: r.StartedBy, BuildNumber: r.BuildNumber,
		VersionName: r.VersionName, State: r.State, Reason: r.Reason, FailedAt: r.FailedAt,
		Queued: r.Queued, Started: r.Started, Finished: r.Finished}
}

// Runs lists a project's runs, newest first.
func (s *Service) Runs(ctx context.Context, project string, f store.RunFilter) (api.RunPage, error) {
	p, err := s.store.ProjectByName(ctx, project)
	if err != nil {
		return api.RunPage{}, known(err, "project %s", project)
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
	p, err := s.store.ProjectByName(ctx, project)
	if err != nil {
		return api.Run{}, known(err, "project %s", project)
	}
	repo, err := source.Open(ctx, p.Remote, s.mirror(p.ID))
	if err != nil {
		return api.Run{}, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	if err := repo.Fetch(ctx, p.Remote); err != nil {
		return api.Run{}, err
	}
	reader, err := repo.Reader(ctx)
	if err != nil {
		return api.Run{}, err
	}
	defer reader.Close()
	event, err := resolve(reader, in.Ref)
	if err != nil {
		return api.Run{}, fmt.Errorf("no branch, tag or commit %q in %s: %w", in.Ref, project, ErrNotFound)
	}
	var run store.Run
	err = s.store.Tx(ctx, func(q store.Q) error {
		made, err := s.planEvent(ctx, q, p, reader, event, person, in.Pipeline)
		if err == nil && len(made) == 0 {
			return fmt.Errorf("no file piston/%s.toml at %s: %w", in.Pipeline, in.Ref, ErrNotFound)
		}
		if err == nil {
			run = made[0]
		}
		return err
	})
	if err != nil {
		return api.Run{}, err
	}
	s.announce()
	return runOf(run), nil
}

// resolve finds what a person means by a ref: a branch, a tag, or a commit, in this order.
func resolve(r *source.Reader, ref string) (plan.Event, error) {
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
	reason := "stopped by " + person
	err = s.store.Tx(ctx, func(q store.Q) error {
		run, err := q.LockRun(ctx, found.ID)
		if err != nil {
			return err
		}
		if run.State.Over() {
			return fmt.Errorf("run %d is over already (%s): %w", number, run.State, ErrInvalid)
		}
		if err := cancelWaiting(ctx, q, run, reason); err != nil {
			return err
		}
		return s.settle(ctx, q, run, reason)
	})
	if err == nil {
		s.announce()
		s.stream.Wake(beatTopic)
	}
	return err
}

// cancelWaiting cancels every job of a run that no runner has, and asks the runners of the others to stop.
func cancelWaiting(ctx context.Context, q store.Q, run store.Run, reason string) error {
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
		if err := q.EndAttempt(ctx, a.ID, state.Cancelled, reason, time.Now(), 0); err != nil {
			if !errors.Is(err, store.ErrNotFound) {
				return err
			}
			running[a.JobID] = true // a runner claimed it this moment
			continue
		}
		if err := q.EndSteps(ctx, a.ID, state.Cancelled, state.Cancelled, time.Now()); err != nil {
			return err
		}
	}
	for _, j := range jobs {
		if !j.State.Over() && !running[j.ID] {
			if err := q.SetJob(ctx, j.ID, state.Cancelled, reason, j.Ready); err != nil {
				return err
			}
		}
	}
	return q.AskToStop(ctx, run.ID, reason)
}

// settle follows up what has changed in a run's jobs: jobs become ready or are skipped, and the run's own state
// follows from theirs. The run's row must be locked.
func (s *Service) settle(ctx context.Context, q store.Q, run store.Run, reason string) error {
	jobs, err := q.Jobs(ctx, run.ID)
	if err != nil {
		return err
	}
	planned := make([]plan.Job, len(jobs))
	byName := map[string]store.Job{}
	for i, j := range jobs {
		planned[i] = plan.Job{Name: j.Name, State: j.State, Reason: j.Reason, Ready: j.Ready, Definition: j.Definition.V}
		byName[j.Name] = j
	}
	now := time.Now()
	for _, changed := range plan.Settle(planned) {
		job := byName[changed.Name]
		if err := q.SetJob(ctx, job.ID, changed.State, changed.Reason, changed.Ready); err != nil {
			return err
		}
		if changed.Ready {
			if _, err := q.AddAttempt(ctx, job, 1, changed.Definition, now); err != nil {
				return err
			}
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
	if err := q.SetRunState(ctx, run.ID, outcome, reason, started, finished); err != nil {
		return err
	}
	return q.AddEvent(ctx, run.ProjectID, api.Change{Project: run.Project, Run: run.Number, State: outcome})
}
