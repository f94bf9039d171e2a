package service

import (
	"context"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/schedule"
	"gentlepiston.example/piston/store"
)

// QueueFilter narrows the list of queued jobs.
type QueueFilter struct {
	Project string
	Run     int64
	After   int // place after which to go on
	Limit   int
}

// Queue lists the jobs that wait, in the order in which they will be handed out, and what each waits for.
func (s *Service) Queue(ctx context.Context, f QueueFilter) (api.QueuePage, error) {
	page := api.QueuePage{Jobs: []api.QueuedJob{}}
	waits, runners, err := s.waits(ctx)
	if err != nil {
		return page, err
	}
	if page.Working, err = s.store.Working(ctx); err != nil {
		return page, err
	}
	for _, r := range runners {
		if online(r) && r.Held == "" {
			page.Slots += r.Slots
		}
	}
	names, err := s.visibleNames(ctx)
	if err != nil {
		return page, err
	}
	branches, err := s.store.BranchesOfOpenRuns(ctx)
	if err != nil {
		return page, err
	}
	for _, w := range waits {
		name, seen := names[w.Job.Project]
		if !seen || f.Project != "" && name != f.Project || f.Run != 0 && w.Job.Number != f.Run {
			continue
		}
		page.Total++
		if w.Place <= f.After {
			continue
		}
		if len(page.Jobs) == f.Limit {
			page.Next = page.Jobs[f.Limit-1].Place
			continue
		}
		page.Jobs = append(page.Jobs,
			api.QueuedJob{Project: name, Run: w.Job.Number, Pipeline: w.Job.Pipeline, Job: w.Job.Name,
				Branch: branches[w.Job.Run], Priority: w.Job.Priority, Queued: w.Job.Queued, Place: w.Place, Why: w.Why})
	}
	if f.Project != "" {
		if _, err := s.visibleProject(ctx, f.Project); err != nil {
			return page, err
		}
	}
	return page, nil
}

func (s *Service) waits(ctx context.Context) ([]schedule.Wait, []store.Runner, error) {
	queue, err := s.store.Queue(ctx, nil, 0, time.Now())
	if err != nil {
		return nil, nil, err
	}
	list, err := s.store.Runners(ctx, store.Page{})
	if err != nil {
		return nil, nil, err
	}
	var there, all []schedule.Runner
	for _, r := range list {
		all = append(all, runnerOf(r))
		if online(r) && r.Held == "" {
			there = append(there, runnerOf(r))
		}
	}
	queue.Held = s.space.held()
	return queue.Waiting(there, all), list, nil
}

func online(r store.Runner) bool { return time.Since(r.Seen) < onlineFor }

// waiting tells what each queued job of a run waits for, by the job's name.
func (s *Service) waiting(ctx context.Context, run int64) (map[string]string, error) {
	waits, _, err := s.waits(ctx)
	why := map[string]string{}
	for _, w := range waits {
		if w.Job.Run == run {
			why[w.Job.Name] = w.Why
		}
	}
	return why, err
}

// Hold keeps a project's jobs from being handed out; with an empty reason they go again.
func (s *Service) Hold(ctx context.Context, project, person, reason string) (api.Project, error) {
	p, err := s.project(ctx, project)
	if err != nil {
		return api.Project{}, err
	}
	by := person
	if reason == "" {
		by = ""
	}
	err = s.acting(ctx, act{"project.hold", project, "", map[string]string{"reason": p.Held},
		map[string]string{"reason": reason}}, func(q store.Q) error {
		return q.HoldProject(ctx, p.ID, reason, by)
	})
	if err != nil {
		return api.Project{}, err
	}
	s.stream.Wake(jobsTopic)
	return s.Project(ctx, project)
}

// LimitProject bounds how many jobs of a project are at work at once; 0 for any number.
func (s *Service) LimitProject(ctx context.Context, project string, atOnce int) (api.Project, error) {
	p, err := s.project(ctx, project)
	if err != nil {
		return api.Project{}, err
	}
	err = s.acting(ctx, act{"project.limit", project, "", map[string]int{"at_once": p.AtOnce},
		map[string]int{"at_once": atOnce}}, func(q store.Q) error {
		return q.LimitProject(ctx, p.ID, atOnce)
	})
	if err != nil {
		return api.Project{}, err
	}
	s.stream.Wake(jobsTopic)
	return s.Project(ctx, project)
}

// Restart starts a run that is over again: all of it as a new run, or in place only the jobs that did not pass.
func (s *Service) Restart(ctx context.Context, project string, number int64, person string,
	in api.Restart) (api.Run, error) {
	found, err := s.run(ctx, project, number)
	if err != nil {
		return api.Run{}, err
	}
	if !in.Failed {
		return s.restartAll(ctx, found, person)
	}
	err = s.store.Tx(ctx, func(q store.Q) error {
		run, err := q.LockRun(ctx, found.ID)
		if err != nil {
			return err
		}
		jobs, err := q.Jobs(ctx, run.ID)
		if err != nil {
			return err
		}
		switch {
		case !run.State.Over():
			return fmt.Errorf("run %d is not over yet: %w; stop it, or wait", number, ErrInvalid)
		case len(jobs) == 0:
			return fmt.Errorf("run %d never began, since its pipeline file is wrong: %w; mend that and push", number, ErrInvalid)
		}
		planned := asPlanned(jobs)
		reset := plan.Again(planned)
		if len(reset) == 0 {
			return fmt.Errorf("every job of run %d passed: %w; leave out failed to start it all again", number, ErrInvalid)
		}
		if err := q.Reopen(ctx, run.ID); err != nil {
			return err
		}
		for i := range jobs {
			jobs[i].State, jobs[i].Reason, jobs[i].Ready = planned[i].State, planned[i].Reason, planned[i].Ready
		}
		if err := q.SettleJobs(ctx, jobs); err != nil {
			return err
		}
		run.Reopenings++
		if err := note(ctx, q, act{name: "run.again", project: project, subject: fmt.Sprint(number)}); err != nil {
			return err
		}
		return s.settleJobs(ctx, q, run, jobs, "")
	})
	if err != nil {
		return api.Run{}, err
	}
	s.announce()
	run, err := s.run(ctx, project, number)
	return runOf(run), err
}

// restartAll makes a new run of the same commit with the same inputs.
func (s *Service) restartAll(ctx context.Context, was store.Run, person string) (api.Run, error) {
	p, err := s.store.ProjectByID(ctx, was.ProjectID)
	if err != nil {
		return api.Run{}, err
	}
	v, err := s.lookForPerson(ctx, p)
	if err != nil {
		return api.Run{}, err
	}
	defer v.close()
	return s.planByHand(ctx, p, v,
		plan.Event{Trigger: plan.ByPerson, Branch: was.Branch, Tag: was.Tag, Commit: was.Commit, Target: was.Target,
			Proposal: was.Proposal, Outside: was.Outside, Pipeline: was.Pipeline},
		cause{person: person, inputs: was.Inputs.V, run: was.Number})
}
