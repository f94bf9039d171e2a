// Package timing turns the times of a job into a report of where they went.
package timing

import "time"

// Step is one step's span; a step that never ran has zero times.
type Step struct {
	Name           string
	Started, Ended time.Time
}

// Job is what is known of one attempt of a job. Zero times are of what has not happened.
type Job struct {
	Queued   time.Time // it could have started: everything before it had passed
	Claimed  time.Time // a runner took it
	Prepared time.Time // checkout and caches are there
	Steps    []Step
	Finished time.Time
}

// Report says where the time of a job went, in milliseconds. Spans that are still open reach to now.
type Report struct {
	// Waiting for a runner.
	Queue int64 `json:"queue_ms"`
	// Checkout and caches, before the first step.
	Prepare int64 `json:"prepare_ms"`
	// All steps together.
	Steps int64 `json:"steps_ms"`
	// After the last step: artifacts, caches, the last of the log.
	Wrap int64 `json:"wrap_ms"`
	// From queued to finished.
	Total int64 `json:"total_ms"`
	// The step that took longest.
	Slowest string `json:"slowest,omitempty"`
	SlowMs  int64  `json:"slowest_ms,omitempty"`
}

// Of computes the report of a job as it stands at now.
func Of(j Job, now time.Time) Report {
	var r Report
	if j.Queued.IsZero() {
		return r
	}
	end := j.Finished
	if end.IsZero() {
		end = now
	}
	r.Total = ms(j.Queued, end)
	r.Queue = ms(j.Queued, or(j.Claimed, end))
	if j.Claimed.IsZero() {
		return r
	}
	r.Prepare = ms(j.Claimed, or(j.Prepared, end))
	last := j.Prepared
	for _, s := range j.Steps {
		if s.Started.IsZero() {
			continue
		}
		last = or(s.Ended, end)
		took := ms(s.Started, last)
		r.Steps += took
		if took > r.SlowMs || r.Slowest == "" {
			r.SlowMs, r.Slowest = took, s.Name
		}
	}
	if !last.IsZero() && !j.Finished.IsZero() {
		r.Wrap = ms(last, j.Finished)
	}
	return r
}

func or(t, otherwise time.Time) time.Time {
	if t.IsZero() {
		return otherwise
	}
	return t
}

// ms never goes below zero: clocks of runner and server may differ by a little.
func ms(from, to time.Time) int64 { return max(0, to.Sub(from).Milliseconds()) }
