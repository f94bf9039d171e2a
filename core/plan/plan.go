// Package plan decides what a pipeline and an event come to: whether they match, which jobs there are, and which
// of them may start or must be skipped as results come in. It computes only; the service writes it down.
package plan

import (
	"fmt"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/state"
)

// Trigger is what started a run.
type Trigger string

// The triggers of the design that exist so far.
const (
	OnPush   Trigger = "push"
	OnTag    Trigger = "tag"
	ByPerson Trigger = "person"
)

// NoCommit is the object id Git uses for "there was nothing" and "there is nothing any more" (githooks(5), post-receive).
const NoCommit = "0000000000000000000000000000000000000000"

// RefUpdate is one changed ref of a push, as a post-receive hook reads it.
type RefUpdate struct {
	Ref    string `json:"ref" doc:"Full name, such as refs/heads/main." maxLength:"1024"`
	Before string `json:"before" doc:"Object id before the push; zeros for a new ref." pattern:"^[0-9a-f]{40}$|^[0-9a-f]{64}$"`
	After  string `json:"after" doc:"Object id after the push; zeros for a deleted ref." pattern:"^[0-9a-f]{40}$|^[0-9a-f]{64}$"`
}

// Deleted reports whether the push removed the ref.
func (u RefUpdate) Deleted() bool { return strings.Trim(u.After, "0") == "" }

// New reports whether the push made the ref.
func (u RefUpdate) New() bool { return strings.Trim(u.Before, "0") == "" }

// Event is something that may start pipelines at a commit.
type Event struct {
	Trigger Trigger
	Branch  string // for a push, or a start by hand on a branch
	Tag     string // for a tag
	Commit  string
}

// Of turns a ref update into an event; ok is false for refs that are neither branch nor tag, and for deletions.
func Of(u RefUpdate) (e Event, ok bool) {
	if u.Deleted() {
		return Event{}, false
	}
	if branch, is := strings.CutPrefix(u.Ref, "refs/heads/"); is {
		return Event{Trigger: OnPush, Branch: branch, Commit: u.After}, true
	}
	if tag, is := strings.CutPrefix(u.Ref, "refs/tags/"); is {
		return Event{Trigger: OnTag, Tag: tag, Commit: u.After}, true
	}
	return Event{}, false
}

// Matches reports whether the event starts the pipeline.
func Matches(p *definition.Pipeline, e Event) bool {
	switch e.Trigger {
	case ByPerson:
		return true
	case OnPush:
		return p.Trigger.Push != nil && anyMatches(p.Trigger.Push.Branches, e.Branch)
	case OnTag:
		return p.Trigger.Tag != nil && anyMatches(p.Trigger.Tag.Names, e.Tag)
	}
	return false
}

func anyMatches(globs []string, name string) bool {
	if len(globs) == 0 {
		return true
	}
	for _, g := range globs {
		if doublestar.MatchUnvalidated(g, name) {
			return true
		}
	}
	return false
}

// Job is one job of a planned run.
type Job struct {
	Name       string
	State      state.State
	Reason     string // why it was skipped
	Ready      bool   // queued and every job it waits for has passed
	Definition *definition.Job
}

// Jobs lays out a pipeline's jobs, each after those it waits for.
func Jobs(p *definition.Pipeline) []Job {
	names := p.JobNames()
	jobs := make([]Job, len(names))
	for i, name := range names {
		d := p.Job[name]
		jobs[i] = Job{Name: name, State: state.Queued, Ready: len(d.After) == 0, Definition: d}
	}
	return jobs
}

// Settle applies the results so far: a queued job whose predecessors have all passed becomes ready, one with a
// predecessor that ended otherwise is skipped, with the reason. It returns the jobs that changed.
// Jobs must be in the order of Jobs, so that one pass reaches the whole graph.
func Settle(jobs []Job) (changed []*Job) {
	byName := make(map[string]*Job, len(jobs))
	for i := range jobs {
		j := &jobs[i]
		byName[j.Name] = j
		if j.State != state.Queued || j.Ready {
			continue
		}
		ready := true
		for _, name := range j.Definition.After {
			before := byName[name]
			if before.State.Over() && !before.State.Good() {
				j.State = state.Skipped
				j.Reason = fmt.Sprintf("%s %s", name, wordFor(before.State))
				break
			}
			ready = ready && before.State.Good()
		}
		if j.State == state.Skipped {
			changed = append(changed, j)
		} else if ready {
			j.Ready = true
			changed = append(changed, j)
		}
	}
	return changed
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

// Outcome is the state of a run whose jobs stand as given.
func Outcome(jobs []Job) state.State {
	started, over, worst := false, true, state.Passed
	for _, j := range jobs {
		if !j.State.Over() {
			over = false
		}
		if j.State != state.Queued {
			started = true
		}
		worst = state.Worse(worst, j.State)
	}
	switch {
	case over:
		return worst
	case started:
		return state.Running
	}
	return state.Queued
}
