package history

import (
	"context"
	"time"

	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// SetBack sets the times of all runs of a project back, over some time until now, so that a demo has a history. No door
// leads to it; and the project's pages say so for ever.
func (s *History) SetBack(ctx context.Context, project string, over time.Duration) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	runs, err := s.Store.AllRuns(ctx, p.ID)
	if err != nil || len(runs) == 0 {
		return err
	}
	last := runs[len(runs)-1].Queued
	list := make([]store.SetBack, len(runs))
	for i, r := range runs {
		by := r.Queued.Sub(atOffice(last.Add(-over), last, i, len(runs)))
		list[i] = store.SetBack{Run: r.ID, ByMs: max(0, by.Milliseconds())}
	}
	return s.Tx(ctx, func(q ground.Q) error { return q.SetRunsBack(ctx, p.ID, list) })
}

// The hours of people who push.
const (
	opens = 9 * time.Hour
	open  = 8*time.Hour + 30*time.Minute
)

// atOffice is when the i-th of n runs was queued: from nine to half past five, Monday to Friday (UTC), and the last one
// when it was.
func atOffice(from, to time.Time, i, n int) time.Time {
	var days []time.Time
	for d := from.Truncate(24 * time.Hour); d.Before(to.Truncate(24 * time.Hour)); d = d.AddDate(0, 0, 1) {
		if w := d.Weekday(); w != time.Saturday && w != time.Sunday {
			days = append(days, d)
		}
	}
	if i >= n-1 || len(days) == 0 {
		return to
	}
	at := float64(i) / float64(n-1) * float64(len(days))
	day := min(int(at), len(days)-1)
	return days[day].Add(opens + time.Duration((at-float64(day))*float64(open)))
}
