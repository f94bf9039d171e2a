package definition

import (
	"cmp"
	"fmt"
	"strings"

	"gentlepiston.example/piston/core/cron"
)

// Trigger lists the events that start a pipeline.
type Trigger struct {
	// Start on a push to a branch.
	//
	//	[trigger.push]
	//	branches = ["main", "work/**"]
	Push *Push `toml:"push" json:"push,omitempty"`
	// Start on a new or moved tag.
	//
	//	[trigger.tag]
	//	names = ["v*"]
	Tag *Tag `toml:"tag" json:"tag,omitempty"`
	// Start on a change offered for review. What is built is the result of merging it into its target.
	//
	//	[trigger.proposal]
	//	into = ["main"]
	Proposal *Proposal `toml:"proposal" json:"proposal,omitempty"`
	// Start at set times, by a name for each.
	Schedule map[string]*Schedule `toml:"schedule" json:"schedule,omitempty"`
	// Start when a run of another pipeline has ended, by that pipeline's name.
	Pipeline map[string]*Ended `toml:"pipeline" json:"pipeline,omitempty"`
}

// Push starts a pipeline on a push to a matching branch.
type Push struct {
	// Globs of branch names; ** crosses slashes. Without it every branch matches.
	//
	//	branches = ["main", "work/**"]
	Branches []string `toml:"branches" json:"branches,omitempty"`
	// Globs of branches that do not match although branches says so.
	//
	//	except_branches = ["work/draft/**"]
	ExceptBranches []string `toml:"except_branches" json:"except_branches,omitempty"`
	// Globs of files: start only when one of them differs from what this pipeline last saw of the branch.
	//
	//	paths = ["core/**", "Makefile"]
	Paths []string `toml:"paths" json:"paths,omitempty"`
	// Globs of files whose changes do not count.
	//
	//	except_paths = ["docs/**", "*.md"]
	ExceptPaths []string `toml:"except_paths" json:"except_paths,omitempty"`
}

// Tag starts a pipeline on a matching tag.
type Tag struct {
	// Globs of tag names. Without it every tag matches.
	//
	//	names = ["v*"]
	Names []string `toml:"names" json:"names,omitempty"`
	// Globs of tags that do not match although names says so.
	//
	//	except_names = ["*-draft"]
	ExceptNames []string `toml:"except_names" json:"except_names,omitempty"`
}

// Proposal starts a pipeline on a change that wants into a matching branch.
type Proposal struct {
	// Globs of the branches it wants into. Without it any.
	//
	//	into = ["main"]
	Into []string `toml:"into" json:"into,omitempty"`
	// Globs of files: start only when the proposal changes one of them.
	//
	//	paths = ["core/**"]
	Paths []string `toml:"paths" json:"paths,omitempty"`
	// Globs of files whose changes do not count.
	//
	//	except_paths = ["docs/**"]
	ExceptPaths []string `toml:"except_paths" json:"except_paths,omitempty"`
}

// Schedule starts a pipeline at set times. It counts when it stands on the repository's main branch.
type Schedule struct {
	// When: minute, hour, day of month, month, day of week (0 is Sunday), as in crontab. At most every five minutes.
	//
	//	cron = "30 3 * * 1-5"
	Cron string `toml:"cron" json:"cron"`
	// The time zone whose clock counts, by its IANA name. Default UTC. An hour the clocks skip or repeat makes one
	// run.
	//
	//	zone = "Europe/Lisbon"
	Zone string `toml:"zone" json:"zone,omitempty"`
	// Which branch to build. Default: the repository's main branch.
	//
	//	branch = "main"
	Branch string `toml:"branch" json:"branch,omitempty"`
	// Set to true for a run that looks whether steps with inputs are reproducible: each is run although it could be
	// reused, and what it makes is compared, byte by byte, with what it made before.
	//
	//	cron = "30 3 * * *"
	//	audit = true
	Audit bool `toml:"audit" json:"audit,omitempty"`
}

// Times gives the schedule's times; Parse has checked it before.
func (s *Schedule) Times() (*cron.Schedule, error) {
	zone, err := cron.Zone(s.Zone)
	if err != nil {
		return nil, err
	}
	return cron.Parse(s.Cron, zone)
}

// Ended starts a pipeline when another one has ended.
type Ended struct {
	// How it must have ended: passed, failed, timed-out or cancelled. Default ["passed"].
	//
	//	states = ["failed", "timed-out"]
	States []string `toml:"states" json:"states,omitempty"`
	// Globs of the branches its run must have been of. Without it any.
	//
	//	branches = ["main"]
	Branches []string `toml:"branches" json:"branches,omitempty"`
}

// Sentences says what starts a pipeline, for people.
func (t *Trigger) Sentences() []string {
	list := []string{}
	say := func(format string, args ...any) { list = append(list, fmt.Sprintf(format, args...)) }
	some := func(globs []string, all string) string {
		if len(globs) == 0 {
			return all
		}
		return strings.Join(globs, ", ")
	}
	if t.Push != nil {
		text := "a push to " + some(t.Push.Branches, "any branch")
		if len(t.Push.ExceptBranches) > 0 {
			text += ", not " + strings.Join(t.Push.ExceptBranches, ", ")
		}
		if len(t.Push.Paths) > 0 {
			text += ", changing " + strings.Join(t.Push.Paths, ", ")
		}
		if len(t.Push.ExceptPaths) > 0 {
			text += ", more than " + strings.Join(t.Push.ExceptPaths, ", ")
		}
		list = append(list, text)
	}
	if t.Tag != nil {
		say("a tag %s", some(t.Tag.Names, "of any name"))
	}
	if t.Proposal != nil {
		say("a proposal into %s", some(t.Proposal.Into, "any branch"))
	}
	for _, name := range sortedKeys(t.Schedule) {
		s := t.Schedule[name]
		say("%s: %s, %s", name, s.Cron, cmp.Or(s.Zone, "UTC"))
	}
	for _, name := range sortedKeys(t.Pipeline) {
		say("%s, when it has %s", name, strings.Join(orPassed(t.Pipeline[name].States), " or "))
	}
	return list
}

func orPassed(states []string) []string {
	if len(states) == 0 {
		return []string{"passed"}
	}
	return states
}
