package definition

import (
	"fmt"
	"slices"
)

// raising checks what raises and landings have to do with each other: a run raises an app once, and lands what it has
// raised before.
func (v *validator) raising(p *Pipeline) {
	raised := map[string][]string{} // by the app: the jobs
	for _, name := range sortedKeys(p.Job) {
		for i, s := range p.Job[name].Step {
			if s.Raise == nil {
				continue
			}
			if len(raised[s.Raise.App]) > 0 {
				v.add("bad-value", "a run raises an app once, and another step does already",
					"Jobs behind the one with the raise find the same version in their files.",
					"job", name, "step", fmt.Sprint(i), "raise")
			}
			raised[s.Raise.App] = append(raised[s.Raise.App], name)
		}
	}
	for _, name := range sortedKeys(p.Job) {
		for i, s := range p.Job[name].Step {
			if s.Land != nil && !p.raisedBefore(name, i, s.Land.App) {
				v.add("bad-value", "there is nothing to land: no step before it raises the app",
					`Add a step raise = { by = "patch" } before it, or in a job that this one is after.`,
					"job", name, "step", fmt.Sprint(i), "land")
			}
		}
	}
}

// raisedBefore tells whether a step before another, or a job before its job, raises the app; "" is any.
func (p *Pipeline) raisedBefore(job string, step int, app string) bool {
	raises := func(steps []*Step) bool {
		return slices.ContainsFunc(steps, func(s *Step) bool {
			return s.Raise != nil && (app == "" || s.Raise.App == "" || s.Raise.App == app)
		})
	}
	if raises(p.Job[job].Step[:step]) {
		return true
	}
	seen := map[string]bool{job: true}
	for next := slices.Clone(p.Job[job].After); len(next) > 0; {
		name := next[0]
		next = next[1:]
		if before := p.Job[name]; before != nil && !seen[name] {
			if raises(before.Step) {
				return true
			}
			next = append(next, before.After...)
		}
		seen[name] = true
	}
	return false
}

// Raises tells whether a run of the pipeline takes its version from the ledger by a raise.
func (p *Pipeline) Raises() bool {
	for _, j := range p.Job {
		if slices.ContainsFunc(j.Step, func(s *Step) bool { return s.Raise != nil }) {
			return true
		}
	}
	return false
}
