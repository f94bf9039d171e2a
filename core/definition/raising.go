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
			steps := p.Job[name].Step[:i]
			if s.Land != nil && !raises(steps, s.Land.App) && !p.RaisedBefore(name, s.Land.App) {
				v.add("bad-value", "there is nothing to land: no step before it raises the app",
					`Add a step raise = { by = "patch" } before it, or in a job that this one is after.`,
					"job", name, "step", fmt.Sprint(i), "land")
			}
		}
	}
}

// raises tells whether one of some steps raises an app; "" is any.
func raises(steps []*Step, app string) bool {
	return slices.ContainsFunc(steps, func(s *Step) bool {
		return s.Raise != nil && (app == "" || s.Raise.App == "" || s.Raise.App == app)
	})
}

// RaisedBefore tells whether a job that another is after, by itself or through others, raises an app; "" is any.
func (p *Pipeline) RaisedBefore(job, app string) bool {
	seen := map[string]bool{}
	for next := slices.Clone(p.Job[job].After); len(next) > 0; {
		name := next[0]
		next = next[1:]
		if before := p.Job[name]; before != nil && !seen[name] {
			if raises(before.Step, app) {
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
