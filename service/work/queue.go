package work

import (
	"context"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/schedule"
	"gentlepiston.example/piston/store"
)

// QueueFilter narrows the list of queued jobs.
type QueueFilter struct {
	Project string
	Run     record.RunNumber
	After   int // place after which to go on
	Limit   int
}

// Queue lists the jobs that wait, in the order in which they will be handed out, and what each waits for.
func (s *Work) Queue(ctx context.Context, f QueueFilter) (api.QueuePage, error) {
	page := api.QueuePage{Jobs: []api.QueuedJob{}}
	waits, runners, err := s.waits(ctx)
	if err != nil {
		return page, err
	}
	if page.Working, err = s.Store.Working(ctx); err != nil {
		return page, err
	}
	for _, r := range runners {
		if online(r) && r.Held == "" {
			page.Slots += r.Slots
		}
	}
	names, err := s.VisibleNames(ctx)
	if err != nil {
		return page, err
	}
	branches, err := s.Store.BranchesOfOpenRuns(ctx)
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
		if _, err := s.VisibleProject(ctx, f.Project); err != nil {
			return page, err
		}
	}
	return page, nil
}

func (s *Work) waits(ctx context.Context) ([]schedule.Wait, []store.Runner, error) {
	queue, err := s.Store.Queue(ctx, nil, 0, time.Now())
	if err != nil {
		return nil, nil, err
	}
	list, err := s.Store.Runners(ctx, store.Page{})
	if err != nil {
		return nil, nil, err
	}
	var there, all []schedule.Runner
	for _, r := range list {
		all = append(all, RunnerOf(r))
		if online(r) && r.Held == "" {
			there = append(there, RunnerOf(r))
		}
	}
	queue.Held = s.Space.Held()
	return queue.Waiting(there, all), list, nil
}

func online(r store.Runner) bool { return time.Since(r.Seen) < onlineFor }

// Waiting tells what each queued job of a run waits for, by the job's name.
func (s *Work) Waiting(ctx context.Context, run record.RunID) (map[string]string, error) {
	waits, _, err := s.waits(ctx)
	why := map[string]string{}
	for _, w := range waits {
		if w.Job.Run == run {
			why[w.Job.Name] = w.Why
		}
	}
	return why, err
}
