package history

import (
	"context"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/timing"
	"gentlepiston.example/piston/core/trend"
	"gentlepiston.example/piston/store"
)

const (
	// usualOf is of how many runs before it a step's usual time is.
	usualOf = 60
	// lasts is after how many runs a slower step is no news any more.
	lasts = 20
)

// Run tells where a run's time went, what would have made it shorter, and what was slower than usual.
func (s *History) Run(ctx context.Context, project string, number record.RunNumber) (api.RunTimes, error) {
	out := api.RunTimes{Critical: []timing.Stretch{}, Shorter: []timing.Shorter{}, Slower: []api.SlowerStep{}}
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return out, err
	}
	jobs, err := s.ran(ctx, run)
	if err != nil {
		return out, err
	}
	out.Critical = append(out.Critical, timing.Critical(jobs)...)
	if run.State == state.Passed {
		out.Shorter = append(out.Shorter, timing.WhatIf(jobs)...)
	}
	slower, err := s.slower(ctx, project, run)
	out.Slower = append(out.Slower, slower...)
	return out, err
}

// slower lists the steps of a run that took longer than usual, the most first.
func (s *History) slower(ctx context.Context, project string, run store.Run) (list []api.SlowerStep, err error) {
	runs, err := s.Store.HistoryRuns(ctx, run.ProjectID, store.HistoryFilter{Pipeline: run.Pipeline, UpTo: run.Number,
		Limit: usualOf})
	if err != nil {
		return nil, err
	}
	sp, err := s.spans(ctx, run.ProjectID, run.Pipeline, runs,
		func(p store.Place) bool { return p.Kind == store.StepPlace })
	if err != nil {
		return nil, err
	}
	for _, p := range sp.places {
		spans := sp.passed(p.ID)
		n := len(spans)
		if n == 0 || spans[n-1].Run != run.Number {
			continue
		}
		found, is := trend.LastSlower(took(spans), lasts)
		if !is || trifling(found.Usual, float64(spans[n-1].TookMs)) {
			continue
		}
		one := api.SlowerStep{Job: p.Job, Step: p.Name, Took: spans[n-1].TookMs, Usual: int64(found.Usual),
			SinceRun: spans[found.Since].Run, Runs: n - found.Since, First: spans[found.First].Run, Last: spans[found.Last].Run}
		if one.Since, err = s.between(ctx, project, spans[found.First-1].Run, one.Last); err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	slices.SortStableFunc(list, func(a, b api.SlowerStep) int { return int(b.Took - b.Usual - (a.Took - a.Usual)) })
	return list, nil
}

// ran is a run's jobs as they went, by the last attempt of each.
func (s *History) ran(ctx context.Context, run store.Run) ([]timing.Ran, error) {
	of, err := s.Store.PartsOf(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	jobs := of.Jobs
	since := func(t *time.Time) int64 {
		if t == nil {
			return 0
		}
		return max(0, t.Sub(run.Queued).Milliseconds())
	}
	var list []timing.Ran
	for _, j := range jobs {
		d := j.Definition.V
		one := timing.Ran{Name: j.Name, After: namesOf(jobs, d.After), Takes: namesOf(jobs, givers(d.Take)), Loose: loose(d),
			Own: slices.Equal(d.Machine, []string{definition.ServiceMachine})}
		first := true
		for _, a := range of.Attempts {
			if a.JobID != j.ID || a.Claimed == nil || a.Finished == nil {
				continue
			}
			if first {
				one.Ready, first = since(&a.Queued), false
			}
			one.Again = since(&a.Queued)
			one.Claimed, one.Prepared, one.Ended = since(a.Claimed), since(a.Prepared), since(a.Finished)
			one.Steps = nil
			for _, st := range of.Steps {
				if st.AttemptID == a.ID && st.Started != nil && st.Finished != nil {
					one.Steps = append(one.Steps, timing.Stretch{Kind: timing.Stepping, Job: j.Name, Step: st.Name,
						From: since(st.Started), Took: max(0, since(st.Finished)-since(st.Started))})
				}
			}
		}
		list = append(list, one)
	}
	return list, nil
}

// loose tells that a job would do as well without those before it, but for the files it takes: it runs scripts,
// whatever came of others.
func loose(d *definition.Job) bool {
	return d.When == "" && d.Ask == nil &&
		!slices.ContainsFunc(d.Step, func(s *definition.Step) bool { return s.Script == "" })
}

// givers are the jobs that files are taken from, each written JOB/NAME.
func givers(takes []string) (names []string) {
	for _, t := range takes {
		name, _, _ := strings.Cut(t, "/")
		names = append(names, name)
	}
	return names
}

// namesOf are the jobs that names stand for: a job with variants stands for all of them.
func namesOf(jobs []store.Job, names []string) (list []string) {
	for _, j := range jobs {
		if slices.Contains(names, j.Name) || j.Definition.V.Of != "" && slices.Contains(names, j.Definition.V.Of) {
			list = append(list, j.Name)
		}
	}
	return list
}
