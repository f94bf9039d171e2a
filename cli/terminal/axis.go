package terminal

import (
	"slices"
	"time"

	"gentlepiston.example/piston/api"
)

// axis is the time of a run as it is drawn: without what passed while people were asked and no machine was at work.
type axis struct {
	from   time.Time
	pauses []pause
	total  int64 // milliseconds
}

// pause is a stretch of a run in which it waited for people only.
type pause struct{ from, to time.Time }

func axisOf(d api.RunDetail) axis {
	end := d.Now
	if d.Finished != nil {
		end = *d.Finished
	}
	or := func(t *time.Time) time.Time {
		if t == nil {
			return end
		}
		return *t
	}
	a := axis{from: d.Queued}
	var busy []pause
	for _, j := range d.Jobs {
		if j.Queued != nil && (j.Gate == nil || j.Claimed != nil) {
			busy = append(busy, pause{*j.Queued, or(j.Finished)})
		}
	}
	slices.SortFunc(busy, func(x, y pause) int { return x.from.Compare(y.from) })
	for _, j := range d.Jobs {
		if j.Gate != nil {
			a.add(pause{j.Gate.Asked, or(j.Gate.Ended)}, busy)
		}
	}
	a.total = max(1, a.at(end))
	return a
}

// add adds what is left of a stretch besides those in which machines were at work, and those that are there already.
func (a *axis) add(p pause, busy []pause) {
	taken := slices.Concat(busy, a.pauses)
	slices.SortFunc(taken, func(x, y pause) int { return x.from.Compare(y.from) })
	for _, b := range taken {
		if !b.to.After(p.from) || !b.from.Before(p.to) {
			continue
		}
		if b.from.After(p.from) {
			a.pauses = append(a.pauses, pause{p.from, b.from})
		}
		p.from = b.to
	}
	if p.to.After(p.from) {
		a.pauses = append(a.pauses, p)
	}
}

// at is where a moment is drawn, in milliseconds.
func (a axis) at(t time.Time) int64 {
	at := t.Sub(a.from)
	for _, p := range a.pauses {
		at -= min(max(t.Sub(p.from), 0), p.to.Sub(p.from))
	}
	return at.Milliseconds()
}
