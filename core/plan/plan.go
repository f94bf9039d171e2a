// Package plan decides what a pipeline and an event come to: whether they match, which jobs there are, and which
// of them may start or must be skipped as results come in. It computes only; the service writes it down.
package plan

import (
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/state"
)

// Trigger is what started a run.
type Trigger string

// The triggers.
const (
	OnPush      Trigger = "push"
	OnTag       Trigger = "tag"
	OnProposal  Trigger = "proposal"
	OnSchedule  Trigger = "schedule"
	OnPipeline  Trigger = "pipeline"
	ByPerson    Trigger = "person"
	ByBisection Trigger = "bisection" // a job of a run that failed, tried at another change
)

// NoCommit is the object id Git uses for "there was nothing" and "there is nothing any more" (githooks(5),
// post-receive).
const NoCommit = "0000000000000000000000000000000000000000"

// RefUpdate is one changed ref of a push, as a post-receive hook reads it.
type RefUpdate struct {
	// Full name, such as refs/heads/main.
	Ref string `json:"ref" maxLength:"1024"`
	// Object id before the push; zeros for a new ref.
	Before string `json:"before" pattern:"^[0-9a-f]{40}$|^[0-9a-f]{64}$"`
	// Object id after the push; zeros for a deleted ref.
	After string `json:"after" pattern:"^[0-9a-f]{40}$|^[0-9a-f]{64}$"`
}

// Deleted reports whether the push removed the ref.
func (u RefUpdate) Deleted() bool { return strings.Trim(u.After, "0") == "" }

// New reports whether the push made the ref.
func (u RefUpdate) New() bool { return strings.Trim(u.Before, "0") == "" }

// Event is something that may start pipelines at a commit.
type Event struct {
	Trigger  Trigger
	Branch   string // for a push, a schedule, or a start by hand on a branch
	Tag      string // for a tag
	Commit   string
	Before   string // what the branch was before a push; "" or zeros when there was nothing
	Proposal string // name of a proposal
	Target   string // the branch a proposal wants into
	Outside  bool   // a proposal from outside, which is not trusted
	Schedule string // name of the schedule that is due
	Pipeline string // the only pipeline the event is for, or "" for any; for a schedule or a start by hand
	Ended    string // the pipeline whose run has ended
	EndState state.State
}

// proposalRefs is where proposals are pushed: refs/proposals/TARGET/NAME.
const proposalRefs = "refs/proposals/"

// Of turns a ref update into an event; ok is false for refs that are neither branch, tag nor proposal, and for
// deletions.
func Of(u RefUpdate) (e Event, ok bool) {
	if u.Deleted() {
		return Event{}, false
	}
	if branch, is := strings.CutPrefix(u.Ref, "refs/heads/"); is {
		return Event{Trigger: OnPush, Branch: branch, Commit: u.After, Before: u.Before}, true
	}
	if tag, is := strings.CutPrefix(u.Ref, "refs/tags/"); is {
		return Event{Trigger: OnTag, Tag: tag, Commit: u.After}, true
	}
	if rest, is := strings.CutPrefix(u.Ref, proposalRefs); is {
		if at := strings.LastIndexByte(rest, '/'); at > 0 {
			return Event{Trigger: OnProposal, Target: rest[:at], Proposal: rest[at+1:], Commit: u.After}, true
		}
	}
	return Event{}, false
}

// skipTrailer is the trailer (git-interpret-trailers(1)) by which a commit asks for no run.
var skipTrailer = regexp.MustCompile(`(?im)^piston-run:[ \t]*(no|none|skip)[ \t]*$`)

// AsksForNoRun reports whether a commit's message has, in its last paragraph, the trailer "Piston-Run: no".
func AsksForNoRun(message string) bool {
	message = strings.TrimSpace(strings.ReplaceAll(message, "\r\n", "\n"))
	at := strings.LastIndex(message, "\n\n")
	return at >= 0 && skipTrailer.MatchString(message[at:])
}

// Changes tells the paths that differ from what a pipeline last saw; all means that nothing is known of before, so
// that everything counts as changed. It is asked only when an answer depends on it.
type Changes func() (paths []string, all bool, err error)

// Matches reports whether the event starts the pipeline.
func Matches(p *definition.Pipeline, e Event, changes Changes) (bool, error) {
	if e.Pipeline != "" && e.Pipeline != p.Name {
		return false, nil
	}
	t := p.Trigger
	switch e.Trigger {
	case ByPerson:
		return true, nil
	case OnPush:
		if !OfBranch(p, e.Branch) {
			return false, nil
		}
		return touched(t.Push.Paths, t.Push.ExceptPaths, changes)
	case OnTag:
		return t.Tag != nil && anyMatches(t.Tag.Names, e.Tag) && !matchesOne(t.Tag.ExceptNames, e.Tag), nil
	case OnProposal:
		if t.Proposal == nil || !anyMatches(t.Proposal.Into, e.Target) {
			return false, nil
		}
		return touched(t.Proposal.Paths, t.Proposal.ExceptPaths, changes)
	case OnSchedule:
		return t.Schedule[e.Schedule] != nil, nil
	case OnPipeline:
		ended := t.Pipeline[e.Ended]
		if ended == nil || !anyMatches(ended.Branches, e.Branch) {
			return false, nil
		}
		return len(ended.States) == 0 && e.EndState == state.Passed || slices.Contains(ended.States, string(e.EndState)), nil
	}
	return false, nil
}

// OfBranch reports whether pushes to a branch are a pipeline's, whatever they change.
func OfBranch(p *definition.Pipeline, branch string) bool {
	t := p.Trigger.Push
	return t != nil && anyMatches(t.Branches, branch) && !matchesOne(t.ExceptBranches, branch)
}

// touched reports whether a changed path counts.
func touched(paths, except []string, changes Changes) (bool, error) {
	if len(paths) == 0 && len(except) == 0 {
		return true, nil
	}
	changed, all, err := changes()
	if err != nil || all {
		return all, err
	}
	for _, name := range changed {
		if anyMatches(paths, name) && !matchesOne(except, name) {
			return true, nil
		}
	}
	return false, nil
}

func anyMatches(globs []string, name string) bool { return len(globs) == 0 || matchesOne(globs, name) }

func matchesOne(globs []string, name string) bool {
	for _, g := range globs {
		if doublestar.MatchUnvalidated(g, name) {
			return true
		}
	}
	return false
}
