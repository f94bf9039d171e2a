package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/definition"
)

// written checks that some step could write what a glob names.
func (c *checker) written(glob string, b *before, message string, at definition.Place) {
	base, rest := doublestar.SplitPattern(path.Clean(glob))
	if base == "." {
		base = ""
	}
	parts := strings.Split(strings.Trim(base+"/"+rest, "/"), "/")
	if b.wrong { // a step that fails writes nothing, and that it does is said already
		return
	}
	if top := parts[0] + "/"; len(parts) > 1 &&
		slices.ContainsFunc(b.words, func(w string) bool { return strings.HasPrefix(strings.TrimPrefix(w, "./"), top) }) {
		return
	}
	for _, part := range parts {
		if plain := strings.Trim(part, "*?"); len(plain) >= 3 && !strings.ContainsAny(plain, "*?[{") &&
			(c.mentions(b, plain) || b.has(part)) {
			return
		}
	}
	if c.tree.has(path.Clean(glob)) || b.opaque == "" && len(b.words) == 0 || conventional(parts) && b.opaque != "" {
		return
	}
	if c.matches(glob) {
		return
	}
	fix := "The glob counts from the top of the workspace."
	var tops []string
	for _, w := range b.words {
		if top, _, nested := strings.Cut(strings.TrimPrefix(w, "./"), "/"); nested {
			tops = append(tops, top)
		}
	}
	if near := nearest(parts[0], tops); near != "" {
		fix += fmt.Sprintf(" Did you mean %s?", path.Join(append([]string{near}, parts[1:]...)...))
	}
	if s := at.Step; s != nil && s.Dir != "" {
		fix += fmt.Sprintf(" Is it %s?", path.Join(s.Dir, glob))
	} else if at.Job.Dir != "" {
		fix += fmt.Sprintf(" Is it %s?", path.Join(at.Job.Dir, glob))
	}
	for _, w := range b.words {
		if name := path.Base(w); strings.EqualFold(name, path.Base(glob)) {
			fix += fmt.Sprintf(" A step says %s, in other letters.", w)
			break
		}
	}
	c.add("artifact-unwritten", message+": "+glob, fix, at)
}

// onTheWay are folders and files that a build needs and nobody wants to have of it.
var onTheWay = regexp.MustCompile(`(^|/)(node_modules|\.gradle|\.git|intermediates|DerivedData|Pods)(/|$)|\.(o|d|` +
	`class|pyc)$`)

// fewSources is how many files of the repository may be among what is kept.
const fewSources = 3

// wanted warns of an artifact that takes in what is in the repository anyway, or what is left over on the way.
func (c *checker) wanted(name, glob string, at definition.Place) {
	say := func(what string) {
		c.add("keeps-sources", fmt.Sprintf("artifact %q keeps %s: %s", name, what, glob),
			"Name what somebody will want to have, such as out/*.apk.", at)
	}
	if onTheWay.MatchString(glob) {
		say("what a build needs on its way")
		return
	}
	glob = path.Clean(glob)
	if !strings.Contains(glob, "*") {
		return
	}
	n := 0
	for _, e := range c.tree.Entries {
		if !c.spend(16 << (2 * strings.Count(glob, "{"))) {
			return
		}
		if doublestar.MatchUnvalidated(glob, e.Path) {
			if n++; n == fewSources {
				say("files of the repository")
				return
			}
		}
	}
}

// conventional folders are where build programs write unless told otherwise.
func conventional(parts []string) bool {
	return slices.ContainsFunc(parts, func(p string) bool {
		return slices.Contains([]string{"build", "dist", "target", "DerivedData", "node_modules", "bin", "obj"}, p)
	})
}
