package plan

import (
	"fmt"
	"slices"
	"time"

	"gentlepiston.example/piston/core/condition"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/state"
)

// Job is one job of a planned run.
type Job struct {
	Name       string
	State      state.State
	Reason     string // why it was skipped
	Ready      bool   // queued, and nothing before it is in its way
	Definition *definition.Job
}

// Jobs lays out a pipeline's jobs, each after those it waits for. None is ready yet: Settle tells.
func Jobs(p *definition.Pipeline) []Job {
	names := p.JobNames()
	jobs := make([]Job, len(names))
	for i, name := range names {
		jobs[i] = Job{Name: name, State: state.Queued, Definition: p.Job[name]}
	}
	return jobs
}

// goodEnough reports whether jobs after this one may go on.
func (j *Job) goodEnough() bool {
	return j.State.Good() ||
		j.Definition.Advisory && j.State.Over() && j.State != state.Cancelled && j.State != state.Skipped
}

// Settle applies the results so far: a queued job becomes ready when every job before it is over and good enough and
// its condition holds, and a gate then waits for people; else it is skipped, with the reason. A condition that cannot
// be answered fails its job. It returns the jobs that changed, whose steps' conditions are answered too. Jobs must be
// in the order of Jobs, so that one pass reaches the whole graph.
func Settle(jobs []Job, facts condition.Facts) (changed []*Job) {
	byName := make(map[string]*Job, len(jobs))
	states := map[string]string{}
	for i := range jobs {
		j := &jobs[i]
		byName[j.Name] = j
		if j.State == state.Queued && !j.Ready {
			before := j.State
			j.settle(byName, states, facts)
			if j.Ready || j.State != before {
				changed = append(changed, j)
			}
		}
		states[j.Name] = string(j.State)
		if of := j.Definition.Of; of != "" {
			states[of] = string(state.Worse(state.State(states[of]), j.State))
		}
	}
	return changed
}

func (j *Job) settle(byName map[string]*Job, states map[string]string, facts condition.Facts) {
	waits := false
	for _, name := range j.Definition.After {
		before := byName[name]
		waits = waits || !before.State.Over()
		if before.State.Over() && !before.goodEnough() && !j.Definition.Always {
			j.skip("%s %s", name, wordFor(before.State))
			return
		}
	}
	if waits {
		return
	}
	facts.Job, facts.Variant = states, j.Definition.Variant
	holds, err := ask(j.Definition.When, facts)
	switch {
	case err != nil:
		j.State, j.Reason = state.Failed, err.Error()
		return
	case !holds:
		j.skip("its condition is not met: %s", j.Definition.When)
		return
	}
	if err := j.answerSteps(facts); err != nil {
		j.State, j.Reason = state.Failed, err.Error()
		return
	}
	j.Ready = true
	if j.Definition.Ask != nil {
		j.State = state.Waiting
	}
}

// answerSteps answers the conditions of the steps. The definition may be shared with other runs, so what is answered is
// written into a copy.
func (j *Job) answerSteps(facts condition.Facts) error {
	d := *j.Definition
	d.Step = slices.Clone(d.Step)
	for i, s := range d.Step {
		if s.When == "" {
			continue
		}
		holds, err := ask(s.When, facts)
		if err != nil {
			return fmt.Errorf("step %q: %w", s.Name, err)
		}
		answered := *s
		if answered.Skip = ""; !holds {
			answered.Skip = "its condition is not met: " + s.When
		}
		d.Step[i] = &answered
	}
	j.Definition = &d
	return nil
}

func (j *Job) skip(format string, args ...any) {
	j.State, j.Reason = state.Skipped, fmt.Sprintf(format, args...)
}

func ask(when string, facts condition.Facts) (bool, error) {
	if when == "" {
		return true, nil
	}
	c, err := condition.Compile(when)
	if err != nil {
		return false, err
	}
	return c.Holds(facts)
}

// MayRun reports whether a step may come to run, before anything has: conditions that depend on other jobs may hold.
func MayRun(d *definition.Job, s *definition.Step, facts condition.Facts) bool {
	facts.Variant = d.Variant
	whens := []string{d.When}
	if s != nil {
		whens = append(whens, s.When)
	}
	for _, when := range whens {
		if when == "" {
			continue
		}
		c, err := condition.Compile(when)
		if err != nil || slices.Contains(c.Asks(""), "job") {
			continue
		}
		if holds, err := c.Holds(facts); err == nil && !holds {
			return false
		}
	}
	return true
}

func wordFor(s state.State) string {
	switch s {
	case state.TimedOut:
		return "timed out"
	case state.Failed:
		return "failed"
	}
	return "was " + string(s)
}

// Outcome is the state of a run whose jobs stand as given. It waits for people when nothing in it is for a machine now.
// What is only advisory does not count once it is over.
func Outcome(jobs []Job) state.State {
	started, over, worst := false, true, state.Passed
	asks, works := false, false
	for _, j := range jobs {
		if !j.State.Over() {
			over = false
		}
		asks = asks || j.State == state.Waiting
		works = works || j.State == state.Running || j.State == state.Queued && j.Ready
		if j.State != state.Queued && j.State != state.Skipped {
			started = true
		}
		if !j.Definition.Advisory || j.State == state.Cancelled {
			worst = state.Worse(worst, j.State)
		}
	}
	switch {
	case over:
		return worst
	case asks && !works:
		return state.Waiting
	case started:
		return state.Running
	}
	return state.Queued
}

// Retry decides whether a failed attempt is followed by another, and after what pause. tried counts the attempts so
// far; step and code are those of the step that failed.
func Retry(d *definition.Job, step string, code *int, tried int) (wait time.Duration, again bool) {
	if !d.Retry.Covers(step, code) || tried > d.Retry.Times {
		return 0, false
	}
	wait = definition.DefaultRetryWait.Value()
	if d.Retry.Wait != "" {
		wait = d.Retry.Wait.Value()
	}
	for range tried - 1 {
		wait = min(2*wait, maxRetryWait)
	}
	return wait, true
}

// maxRetryWait bounds the doubling.
const maxRetryWait = time.Hour

// Again puts the jobs that did not pass back into the queue and returns them; those that passed keep their results.
func Again(jobs []Job) (reset []*Job) {
	for i := range jobs {
		if j := &jobs[i]; !j.State.Good() {
			j.State, j.Reason, j.Ready = state.Queued, "", false
			reset = append(reset, j)
		}
	}
	return reset
}
