package history

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/trend"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// spans are what places took in some runs.
type spans struct {
	runs   []store.HistoryRun // oldest first
	at     map[record.RunNumber]int
	places []store.Place
	of     map[record.PlaceID][]store.Span
}

func (s *History) spans(ctx context.Context, project record.ProjectID, pipeline string, runs []store.HistoryRun,
	want func(store.Place) bool) (spans, error) {
	out := spans{runs: runs, at: map[record.RunNumber]int{}, of: map[record.PlaceID][]store.Span{}}
	for i, r := range runs {
		out.at[r.Number] = i
	}
	places, err := s.Store.TimedPlaces(ctx, project, pipeline)
	if err != nil {
		return out, err
	}
	var ids []record.PlaceID
	for _, p := range places {
		if want(p) {
			out.places, ids = append(out.places, p), append(ids, p.ID)
		}
	}
	list, err := s.Store.SpansOf(ctx, ids, numbers(runs))
	for _, one := range list {
		out.of[one.PlaceID] = append(out.of[one.PlaceID], one)
	}
	return out, err
}

func all(store.Place) bool { return true }

// Times tells where the time of a pipeline's last runs went.
func (s *History) Times(ctx context.Context, project string, f api.TimesFilter) (api.Times, error) {
	out := api.Times{Runs: []api.TimedRun{}, Steps: []api.TimedStep{}}
	p, pipelines, pipeline, err := s.pipelineOf(ctx, project, f.Pipeline)
	out.Pipeline, out.Pipelines = pipeline, ground.NonNil(pipelines)
	if err != nil || pipeline == "" {
		return out, err
	}
	if out.SetBack, err = s.Store.IsSetBack(ctx, p.ID); err != nil {
		return out, err
	}
	runs, err := s.Store.HistoryRuns(ctx, p.ID, store.HistoryFilter{Pipeline: pipeline, Branch: f.Branch, Limit: f.Limit})
	if err != nil {
		return out, err
	}
	sp, err := s.spans(ctx, p.ID, pipeline, runs, all)
	if err != nil {
		return out, err
	}
	if out.Runs, err = s.timedRuns(ctx, runs); err != nil {
		return out, err
	}
	steps := sp.steps()
	for i := range out.Runs {
		out.Runs[i].Steps = make([]int64, len(steps))
	}
	for n, id := range steps {
		out.Steps = append(out.Steps, sp.timed(id))
		for _, one := range sp.of[id.ID] {
			out.Runs[sp.at[one.Run]].Steps[n] += one.TookMs
		}
	}
	sp.rest(out.Runs)
	return out, nil
}

// timedRuns are runs without the times of what was in them.
func (s *History) timedRuns(ctx context.Context, runs []store.HistoryRun) ([]api.TimedRun, error) {
	ids := make([]record.RunID, len(runs))
	for i, r := range runs {
		ids[i] = r.ID
	}
	tools, err := s.Store.ToolsFound(ctx, ids)
	if err != nil {
		return nil, err
	}
	releases, err := s.Store.ReleasesOfRuns(ctx, ids)
	if err != nil {
		return nil, err
	}
	list := make([]api.TimedRun, len(runs))
	known := map[string]string{}
	for i, r := range runs {
		list[i] = api.TimedRun{Run: r.Number, State: r.State, Branch: r.Branch, Commit: r.Commit, Subject: r.Subject,
			At: r.Finished, Total: max(0, r.Finished.Sub(r.Queued).Milliseconds()), Release: releases[r.ID]}
		for _, name := range slices.Sorted(maps.Keys(tools[r.ID])) {
			now := tools[r.ID][name]
			if was, is := known[name]; is && was != now {
				list[i].Tools = append(list[i].Tools, api.Difference{What: name, Before: was, After: now})
			}
			known[name] = now
		}
	}
	return list, nil
}

// steps are the places that are steps, those that took most in all first.
func (s spans) steps() (list []store.Place) {
	sums := map[record.PlaceID]int64{}
	for _, p := range s.places {
		if p.Kind != store.StepPlace || len(s.of[p.ID]) == 0 {
			continue
		}
		list = append(list, p)
		for _, one := range s.of[p.ID] {
			sums[p.ID] += one.TookMs
		}
	}
	slices.SortStableFunc(list, func(a, b store.Place) int { return cmp.Compare(sums[b.ID], sums[a.ID]) })
	return list
}

// rest adds to runs what is no step: waits, preparation, what comes after steps; and counts caches.
func (s spans) rest(runs []api.TimedRun) {
	inSteps := make([]int64, len(runs))
	for i, r := range runs {
		for _, took := range r.Steps {
			inSteps[i] += took
		}
	}
	took := make([]int64, len(runs))
	for _, p := range s.places {
		for _, one := range s.of[p.ID] {
			i := s.at[one.Run]
			switch {
			case p.Kind == store.JobPlace:
				took[i] += one.TookMs
				runs[i].Waited += one.WaitedMs
				runs[i].Prepared += one.PreparedMs
			case p.Kind == store.CachePlace && one.State == "hit":
				runs[i].Hits++
			case p.Kind == store.CachePlace:
				runs[i].Misses++
			}
		}
	}
	for i := range runs {
		runs[i].Wrapped = max(0, took[i]-runs[i].Prepared-inSteps[i])
	}
}

// passed are the spans of a place in which it passed, one for each run.
func (s spans) passed(place record.PlaceID) (list []store.Span) {
	for _, one := range s.of[place] {
		if one.State != string(state.Passed) {
			continue
		}
		if n := len(list); n > 0 && list[n-1].Run == one.Run {
			list[n-1] = one
			continue
		}
		list = append(list, one)
	}
	return list
}

func took(list []store.Span) []float64 {
	values := make([]float64, len(list))
	for i, one := range list {
		values[i] = float64(one.TookMs)
	}
	return values
}

// timed sums up how long a step takes.
func (s spans) timed(p store.Place) api.TimedStep {
	list := s.passed(p.ID)
	values := took(list)
	spread := trend.Of(values)
	out := api.TimedStep{Job: p.Job, Step: p.Name, Machine: p.Machine, Runs: spread.N, Median: int64(spread.Median),
		Low: int64(spread.Low), High: int64(spread.High), Most: int64(spread.Most)}
	for _, c := range trend.Changes(values) {
		if trifling(c.Before, c.After) {
			continue
		}
		r := s.runs[s.at[list[c.At].Run]]
		out.Changes = append(out.Changes, api.TimedChange{Run: r.Number, First: list[c.First].Run, Last: list[c.Last].Run,
			After: list[c.First-1].Run, Before: int64(c.Before), Now: int64(c.After),
			Commit: r.Commit, Subject: r.Subject, Author: r.Author})
	}
	return out
}

// trifling tells that two times differ by less than anybody waits for.
func trifling(a, b float64) bool { return max(a, b)-min(a, b) < trifle }

// trifle is in milliseconds.
const trifle = 50
