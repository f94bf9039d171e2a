package history

import (
	"context"
	"errors"
	"math"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/trend"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// mostBars is how many bars a histogram has at most.
const mostBars = 24

// Step tells the history of one step: what it took, how that is spread, and what was different where it changed.
func (s *History) Step(ctx context.Context, project string, f api.StepFilter) (api.StepTimes, error) {
	out := api.StepTimes{Series: []api.StepTime{}, Bars: []api.TimeBar{}, What: []api.ChangedThere{}}
	p, _, pipeline, err := s.pipelineOf(ctx, project, f.Pipeline)
	if err != nil {
		return out, err
	}
	runs, err := s.Store.HistoryRuns(ctx, p.ID, store.HistoryFilter{Pipeline: pipeline, Branch: f.Branch, Limit: f.Limit})
	if err != nil {
		return out, err
	}
	sp, err := s.spans(ctx, p.ID, pipeline, runs, func(p store.Place) bool {
		return p.Kind == store.StepPlace && p.Job == f.Job && p.Name == f.Step && (f.Machine == "" || p.Machine == f.Machine)
	})
	if err != nil {
		return out, err
	}
	place, found := sp.busiest()
	if !found {
		return out, ground.Known(store.ErrNotFound, "step %s of job %s in the last %d runs of %s", f.Step, f.Job, len(runs),
			pipeline)
	}
	out.TimedStep = sp.timed(place)
	for _, one := range sp.of[place.ID] {
		r := sp.runs[sp.at[one.Run]]
		t := api.StepTime{Run: one.Run, At: one.Ended, State: one.State, Took: one.TookMs, Commit: r.Commit,
			Subject: r.Subject}
		if n := len(out.Series); n > 0 && out.Series[n-1].Run == one.Run {
			out.Series[n-1] = t
			continue
		}
		out.Series = append(out.Series, t)
	}
	out.Bars = bars(took(sp.passed(place.ID)))
	for _, c := range out.Changes {
		since, err := s.between(ctx, project, c.After, c.Last)
		if err != nil {
			return out, err
		}
		out.What = append(out.What, api.ChangedThere{TimedChange: c, Since: since})
	}
	return out, nil
}

// busiest is the place with the most spans: a step that ran on several kinds of machine has several.
func (s spans) busiest() (best store.Place, found bool) {
	for _, p := range s.places {
		if n := len(s.of[p.ID]); n > 0 && (!found || n > len(s.of[best.ID])) {
			best, found = p, true
		}
	}
	return best, found
}

// between tells what differs between two runs.
func (s *History) between(ctx context.Context, project string, last, run record.RunNumber) (api.Since, error) {
	before, err := s.Store.RunByNumber(ctx, project, last)
	if errors.Is(err, store.ErrNotFound) {
		return s.report.Since(ctx, project, run)
	}
	if err != nil {
		return api.Since{}, err
	}
	after, err := s.FindRun(ctx, project, run)
	if err != nil {
		return api.Since{}, err
	}
	return s.report.Between(ctx, before, after)
}

// bars makes a histogram, as wide as Freedman and Diaconis would have it.
func bars(values []float64) []api.TimeBar {
	list := []api.TimeBar{}
	spread := trend.Of(values)
	if spread.N == 0 {
		return list
	}
	width := 2 * (spread.High - spread.Low) / math.Cbrt(float64(spread.N))
	reach := spread.Most - spread.Least
	width = math.Ceil(max(width, reach/mostBars, 1))
	for at := math.Floor(spread.Least/width) * width; at <= spread.Most; at += width {
		bar := api.TimeBar{From: int64(at), To: int64(at + width)}
		for _, v := range values {
			if v >= at && v < at+width {
				bar.N++
			}
		}
		list = append(list, bar)
	}
	return list
}
