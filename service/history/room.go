// Package history tells of all runs together: where the time goes, since when it goes there, and what changed then. It
// reads rows that were written in the transaction that ended what they tell of; what is computed of them, core does.
package history

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/report"
	"gentlepiston.example/piston/store"
)

// History is the room of what all runs tell together.
type History struct {
	*ground.Ground
	report *report.Report
}

// New makes it.
func New(g *ground.Ground, r *report.Report) *History { return &History{g, r} }

// Background starts its loops.
func (s *History) Background() {
	s.OneOfAll(ground.Upkeep{What: "summing days up", Every: 10 * time.Minute, Do: s.SumUpDays})
	s.OneOfAll(ground.Upkeep{What: "watching budgets", Every: time.Minute,
		Do: func(ctx context.Context) error { return s.WatchBudgets(ctx, time.Now()) }})
}

// daysAtOnce is how many days are summed up in one transaction: the first time there are years of them.
const daysAtOnce = 32

// SumUpDays sums up what machines did, day by day.
func (s *History) SumUpDays(ctx context.Context) error {
	now := time.Now()
	from, err := s.Store.SummedUpFrom(ctx, now)
	for err == nil && !from.After(now) {
		to := from.AddDate(0, 0, daysAtOnce)
		if to.After(now) {
			to = store.EndOfTime // of a clock that was ahead
		}
		err = s.Store.Tx(ctx, func(q store.Q) error { return q.SumUp(ctx, 0, from, to) })
		from = to
	}
	return err
}

// pipelineOf finds the project, and the pipeline that is asked for: by its name, or the one that ran last. pipelines
// are all that have a history; the name is "" where there is none.
func (s *History) pipelineOf(ctx context.Context, project, name string) (p store.Project, pipelines []string,
	pipeline string, err error) {
	if p, err = s.FindProject(ctx, project); err != nil {
		return p, nil, "", err
	}
	if pipelines, err = s.Store.HistoryPipelines(ctx, p.ID); err != nil {
		return p, nil, "", err
	}
	pipelines = ground.NonNil(pipelines)
	if name == "" {
		name, err = s.Store.LastPipeline(ctx, p.ID)
		return p, pipelines, name, err
	}
	for _, known := range pipelines {
		if known == name {
			return p, pipelines, name, nil
		}
	}
	return p, pipelines, "", ground.Known(store.ErrNotFound, "history of a pipeline %s in %s", name, project)
}

// numbers are those of runs.
func numbers(runs []store.HistoryRun) []record.RunNumber {
	list := make([]record.RunNumber, len(runs))
	for i, r := range runs {
		list[i] = r.Number
	}
	return list
}
