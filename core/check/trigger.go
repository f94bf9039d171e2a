package check

import (
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/definition"
)

// triggers checks branches that triggers name against those there are.
func (c *checker) triggers() {
	if c.tree.Branches == nil {
		return
	}
	t := c.p.Trigger
	if t.Push != nil {
		c.branches(t.Push.Branches, "trigger", "push", "branches")
	}
	if t.Proposal != nil {
		c.branches(t.Proposal.Into, "trigger", "proposal", "into")
	}
	for _, name := range sortedKeys(t.Schedule) {
		if b := t.Schedule[name].Branch; b != "" && !slices.Contains(c.tree.Branches, b) {
			c.add("no-branch", fmt.Sprintf("schedule %q builds branch %q, which there is not", name, b), c.nearBranch(b),
				definition.Place{Keys: []string{"trigger", "schedule", name, "branch"}})
		}
	}
	for _, name := range sortedKeys(t.Pipeline) {
		c.branches(t.Pipeline[name].Branches, "trigger", "pipeline", name, "branches")
	}
}

// branches warns when none of a list of globs matches. Folders of branches, such as work/**, come and go.
func (c *checker) branches(globs []string, at ...string) {
	for i, glob := range globs {
		any := slices.ContainsFunc(c.tree.Branches, func(b string) bool { return doublestar.MatchUnvalidated(glob, b) })
		if !any && !strings.ContainsAny(glob, "*?[{") {
			c.add("no-branch", fmt.Sprintf("no branch is called %q", glob), c.nearBranch(glob),
				definition.Place{Keys: append(slices.Clone(at), itoa(i))})
		}
		if any || strings.ContainsAny(glob, "*?[{") && i > 0 {
			continue
		}
		if strings.ContainsAny(glob, "*?[{") && len(globs) == 1 {
			c.add("no-branch", fmt.Sprintf("no branch matches %q", glob), c.nearBranch(glob),
				definition.Place{Keys: append(slices.Clone(at), itoa(i))})
		}
	}
}

// usual are names that stand for each other when people write from habit.
var usual = []string{"main", "master", "trunk", "develop"}

func (c *checker) nearBranch(name string) string {
	if near := nearest(name, c.tree.Branches); near != "" {
		return fmt.Sprintf("Did you mean %q?", near)
	}
	if slices.Contains(usual, name) {
		for _, b := range usual {
			if slices.Contains(c.tree.Branches, b) {
				return fmt.Sprintf("There is %q: is that the one?", b)
			}
		}
	}
	list := c.tree.Branches
	return "Branches are: " + strings.Join(list[:min(8, len(list))], ", ") + "."
}

// links checks what pipelines say of each other.
func links(files []File) {
	byName := map[string]*File{}
	var names []string
	for i := range files {
		byName[files[i].Name] = &files[i]
		names = append(names, files[i].Name)
	}
	for i := range files {
		f := &files[i]
		if f.Pipeline == nil {
			continue
		}
		for _, other := range sortedKeys(f.Pipeline.Trigger.Pipeline) {
			at := definition.Place{Keys: []string{"trigger", "pipeline", other}}
			if byName[other] == nil {
				fix := "Pipelines are: " + strings.Join(names, ", ") + "."
				if near := nearest(other, names); near != "" {
					fix = fmt.Sprintf("Did you mean %q?", near)
				}
				f.Findings = append(f.Findings,
					New(f.Pipeline, "no-such-pipeline", fmt.Sprintf("there is no pipeline %q to wait for", other), fix, at))
			} else if trail := circle(byName, f.Name, other, nil); trail != nil && f.Name == slices.Min(trail) {
				f.Findings = append(f.Findings,
					New(f.Pipeline, "trigger-cycle", "pipelines start each other: "+strings.Join(append(trail, trail[0]), " ← "),
						"Remove one of these triggers.", at))
			}
		}
	}
}

// circle follows triggers back from a pipeline until it comes to the first again.
func circle(byName map[string]*File, first, at string, trail []string) []string {
	if slices.Contains(trail, at) {
		return nil
	}
	trail = append(trail, at)
	if at == first {
		return trail
	}
	f := byName[at]
	if f == nil || f.Pipeline == nil {
		return nil
	}
	for _, next := range sortedKeys(f.Pipeline.Trigger.Pipeline) {
		if found := circle(byName, first, next, trail); found != nil {
			return found
		}
	}
	return nil
}
