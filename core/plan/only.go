package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/definition"
)

// ErrActs says that a job cannot be run for a look, since it does what cannot be undone.
var ErrActs = errors.New("not only a build")

// harmless are the actions that a job may have which is run for a look: what they do stays in its workspace.
var harmless = []string{"", "note", "package", "deal"}

// lowest is below every priority a pipeline may have, so that what has it is given only to machines nobody else wants.
const lowest = -101

// Only is what of a pipeline must run for the outcome of one of its jobs: that job, and those whose files it takes.
// They keep no artifacts, and their workspaces do not stay. An error wraps ErrActs when one of them asks people, or
// does what would be seen outside: a number raised, a signature, a release.
func Only(p *definition.Pipeline, name string) (*definition.Pipeline, error) {
	if p.Job[name] == nil {
		return nil, fmt.Errorf("there is no job %s", name)
	}
	out := *p
	out.Job, out.Priority, out.Bisect = map[string]*definition.Job{}, lowest, false
	for open := []string{name}; len(open) > 0; open = open[1:] {
		if out.Job[open[0]] != nil {
			continue
		}
		job := *p.Job[open[0]]
		if err := actsIn(&job); err != nil {
			return nil, err
		}
		job.Keep, job.Stay = nil, ""
		out.Job[job.Name] = &job
		for _, take := range p.Takes(&job) {
			giver, _, _ := strings.Cut(take, "/")
			open = append(open, giver)
		}
	}
	for _, job := range out.Job {
		job.After = slices.DeleteFunc(slices.Clone(job.After), func(n string) bool { return out.Job[n] == nil })
	}
	return &out, nil
}

func actsIn(job *definition.Job) error {
	if job.Ask != nil {
		return fmt.Errorf("job %s asks people: %w", job.Name, ErrActs)
	}
	for _, s := range job.Step {
		if _, verb := s.Action(); !slices.Contains(harmless, verb) {
			return fmt.Errorf("step %q of job %s is a %s: %w", s.Name, job.Name, verb, ErrActs)
		}
	}
	return nil
}
