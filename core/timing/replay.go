package timing

import (
	"cmp"
	"slices"
)

// Ran is a job of a run as it went, in milliseconds since the run was queued.
type Ran struct {
	Name  string
	After []string // jobs it came after
	Takes []string // those of them whose files it takes
	// Loose tells that nothing but files holds it to the jobs before it: it only runs scripts, whatever came of those.
	Loose bool
	Own   bool // no machine's work: the service's own, or people's

	Ready    int64 // it could have started
	Again    int64 // it was queued for the last time, when it was tried several times; else as Ready
	Claimed  int64
	Prepared int64
	Ended    int64
	Steps    []Stretch
}

// StretchKind is what a stretch of time was spent on.
type StretchKind string

// The kinds.
const (
	Tried     StretchKind = "tried"   // attempts before the last
	Waiting   StretchKind = "waiting" // for a machine, or for people
	Preparing StretchKind = "preparing"
	Stepping  StretchKind = "step"
	Wrapping  StretchKind = "wrapping"
)

// Stretch is a part of a run's time.
type Stretch struct {
	Kind StretchKind `json:"kind" enum:"tried,waiting,preparing,step,wrapping"`
	Job  string      `json:"job"`
	Step string      `json:"step,omitempty"`
	// When it began, in milliseconds since the run was queued, and how long it was.
	From int64 `json:"from_ms"`
	Took int64 `json:"took_ms"`
}

// Critical is the critical path of a run: the stretches, in their order, of which each had to end before the next could
// begin. A run is not quicker than it, whatever else is done.
func Critical(jobs []Ran) (path []Stretch) {
	at := byName(jobs)
	last, found := lastEnded(jobs)
	for seen := map[string]bool{}; found && !seen[last.Name]; {
		seen[last.Name] = true
		path = append(stretches(last), path...)
		var before []Ran
		for _, name := range last.After {
			if j, is := at[name]; is {
				before = append(before, j)
			}
		}
		last, found = lastEnded(before)
	}
	return path
}

func byName(jobs []Ran) map[string]Ran {
	at := make(map[string]Ran, len(jobs))
	for _, j := range jobs {
		at[j.Name] = j
	}
	return at
}

func lastEnded(jobs []Ran) (last Ran, found bool) {
	for _, j := range jobs {
		if j.Ended > 0 && (!found || j.Ended > last.Ended) {
			last, found = j, true
		}
	}
	return last, found
}

// stretches are what a job's time was spent on; those of no time are left out.
func stretches(j Ran) (list []Stretch) {
	add := func(kind StretchKind, step string, from, to int64) {
		if to > from {
			list = append(list, Stretch{kind, j.Name, step, from, to - from})
		}
	}
	again := max(j.Ready, j.Again)
	add(Tried, "", j.Ready, again)
	add(Waiting, "", again, j.Claimed)
	add(Preparing, "", j.Claimed, j.Prepared)
	end := j.Prepared
	for _, s := range j.Steps {
		add(Stepping, s.Step, s.From, s.From+s.Took)
		end = max(end, s.From+s.Took)
	}
	add(Wrapping, "", end, j.Ended)
	return list
}

// ShorterKind is what would have made a run shorter.
type ShorterKind string

// The kinds.
const (
	OneMoreMachine ShorterKind = "machine" // one more that takes jobs as they come
	StepReused     ShorterKind = "reuse"   // the step put back instead of run
	SideBySide     ShorterKind = "beside"  // a job that does not come after another
)

// Shorter is something that would have made a run shorter, and by how much.
type Shorter struct {
	Kind ShorterKind `json:"kind" enum:"machine,reuse,beside"`
	// Of a reuse its job and step; of two jobs side by side the later one.
	Job  string `json:"job,omitempty"`
	Step string `json:"step,omitempty"`
	// The job that it came after.
	Other string `json:"other,omitempty"`
	Saves int64  `json:"saves_ms"`
}

// worth is the least share of a run, in per cent, that is worth a word.
const worth = 3

// WhatIf replays a run with one thing changed at a time, and lists what would have made it shorter, the most first.
// Waits for machines are taken as they were, and so are the times of what is not changed.
func WhatIf(jobs []Ran) (list []Shorter) {
	was := replay(jobs, false)
	try := func(s Shorter, changed []Ran, machine bool) {
		if s.Saves = was - replay(changed, machine); s.Saves*100 >= was*worth && s.Saves > 0 {
			list = append(list, s)
		}
	}
	try(Shorter{Kind: OneMoreMachine}, jobs, true)
	for i, j := range jobs {
		for _, s := range j.Steps {
			changed := slices.Clone(jobs)
			changed[i].Ended -= s.Took
			try(Shorter{Kind: StepReused, Job: j.Name, Step: s.Step}, changed, false)
		}
		for _, other := range j.After {
			if !j.Loose || slices.Contains(j.Takes, other) {
				continue
			}
			changed := slices.Clone(jobs)
			changed[i].After = slices.DeleteFunc(slices.Clone(j.After), func(name string) bool { return name == other })
			try(Shorter{Kind: SideBySide, Job: j.Name, Other: other}, changed, false)
		}
	}
	slices.SortStableFunc(list, func(a, b Shorter) int { return cmp.Compare(b.Saves, a.Saves) })
	return list
}

// replay tells how long a run takes whose jobs start when those before them have ended, wait as they did, and take what
// they took. With one more machine a job that would wait starts there, once that is free, where that is sooner.
func replay(jobs []Ran, machine bool) (total int64) {
	ended := map[string]int64{}
	left := slices.Clone(jobs)
	var free int64 // when the further machine is
	for len(left) > 0 {
		next, ready := -1, int64(0)
		for i, j := range left {
			r, known := int64(0), true
			for _, name := range j.After {
				if e, is := ended[name]; is {
					r = max(r, e)
				} else if slices.ContainsFunc(left, func(o Ran) bool { return o.Name == name }) {
					known = false
				}
			}
			if known && (next < 0 || r < ready) {
				next, ready = i, r
			}
		}
		if next < 0 {
			return total // they wait for each other, which no run does
		}
		j := left[next]
		left = slices.Delete(left, next, next+1)
		if j.Ended == 0 {
			ended[j.Name] = ready // it did not run
			continue
		}
		start, took := ready+max(0, j.Claimed-j.Ready), max(0, j.Ended-j.Claimed)
		again := ready + max(0, j.Again-j.Ready)
		if other := max(again, free); machine && !j.Own && other < start {
			start, free = other, other+took
		}
		ended[j.Name] = start + took
		total = max(total, start+took)
	}
	return total
}
