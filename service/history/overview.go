package history

import (
	"context"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/store"
)

// stripOf is how many runs of a pipeline a strip shows.
const stripOf = 30

// Overview tells of a project at a glance.
func (s *History) Overview(ctx context.Context, project string) (api.Overview, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Overview{}, err
	}
	return s.overview(ctx, p)
}

// Overviews tells of the projects that whoever asks may see, by name.
func (s *History) Overviews(ctx context.Context, page api.Page) ([]api.Overview, error) {
	ids, all, err := s.Visible(ctx)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.ProjectsAmong(ctx, ids, all, store.Page(page))
	if err != nil {
		return nil, err
	}
	out := []api.Overview{}
	for _, p := range list {
		one, err := s.overview(ctx, p)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

func (s *History) overview(ctx context.Context, p store.Project) (api.Overview, error) {
	out := api.Overview{Project: p.Name, Remote: p.Remote, Held: p.Held, Trouble: p.Trouble,
		Pipelines: []api.PipelineOverview{}}
	ticks, err := s.Store.Ticks(ctx, p.ID, stripOf)
	if err != nil {
		return out, err
	}
	out.Pipelines = append(out.Pipelines, strips(ticks)...)
	n, err := s.Store.StandingOf(ctx, p.ID)
	if err != nil {
		return out, err
	}
	out.Queued, out.AtWork, out.Waiting, out.Failing, out.Flaky = n.Queued, n.AtWork, n.Waiting, n.Failing, n.Flaky
	out.SetBack = n.SetBack
	if n.Release != "" {
		out.Release = &api.OverviewRelease{App: n.App, Name: n.Release, Run: record.RunNumber(n.Run),
			At: time.Unix(n.Made, 0).UTC(), UnderWay: n.UnderWay}
	}
	now := time.Now()
	from := monthOf(now)
	used, err := s.Store.Used(ctx, store.UsageFilter{Project: p.ID, From: from, To: from.AddDate(0, 1, 0)}, now)
	if err != nil {
		return out, err
	}
	out.Budget, err = s.budget(ctx, p.ID, used)
	return out, err
}

// strips puts runs, of which the latest is first, into a strip for each pipeline: that of the latest run first.
func strips(ticks []store.Tick) (list []api.PipelineOverview) {
	at := map[string]int{}
	seen := map[[2]string]bool{}
	for _, t := range ticks {
		i, known := at[t.Pipeline]
		if !known {
			i = len(list)
			at[t.Pipeline] = i
			list = append(list, api.PipelineOverview{Pipeline: t.Pipeline, Runs: []api.RunTick{}, Branches: []api.RunTick{}})
		}
		one := api.RunTick{Run: t.Number, State: t.State, Branch: t.Branch, Tag: t.Tag, Subject: t.Subject, At: t.Queued,
			FailedAt: t.FailedAt, Reason: t.Reason}
		if t.Finished != nil {
			one.Took = max(0, t.Finished.Sub(t.Queued).Milliseconds())
		}
		list[i].Runs = append([]api.RunTick{one}, list[i].Runs...)
		if of := [2]string{t.Pipeline, t.Branch + t.Tag}; !seen[of] {
			seen[of] = true
			list[i].Branches = append(list[i].Branches, one)
		}
	}
	return list
}

// monthOf is when the month of a time began (UTC).
func monthOf(t time.Time) time.Time {
	t = t.UTC()
	return time.Date(t.Year(), t.Month(), 1, 0, 0, 0, 0, time.UTC)
}
