package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
)

// makefile finds the file that make reads in a folder (POSIX.1-2017, make, -f), "" when there is none.
func (c *checker) makefile(dir string) string {
	for _, name := range []string{"GNUmakefile", "makefile", "Makefile"} {
		if full := path.Join(dir, name); c.tree.has(full) {
			return full
		}
	}
	return ""
}

var targetForm = regexp.MustCompile(`(?m)^([^\s#:=][^:=#]*?)\s*::?(?:[^=]|$)`)

func (c *checker) make(u use, b *before, say func(code, message, fix string)) {
	file := c.makefile(u.path)
	if file == "" {
		if !c.tree.inSubmodule(u.path) && b.opaque == "" && u.after == "" && !c.mentions(b, path.Join(u.path, "Makefile")) {
			fix, unknown := "Correct the folder.", path.Join(u.path, "Makefile")
			if c.tree.OnDisk != nil && c.tree.OnDisk(unknown) {
				fix = "git add " + unknown + ": there is one on this machine, and Git does not track it."
			} else if other := c.elsewhere(path.Join(u.path, "Makefile")); other != "" {
				fix = fmt.Sprintf("There is %s: is dir = %q missing?", other, path.Dir(other))
			}
			where := "at the top of the repository"
			if u.path != "." {
				where = "in " + u.path
			}
			say("no-file", "make finds no Makefile "+where, fix)
		}
		return
	}
	written, all := c.tree.targets(file)
	if u.target == "" || !all {
		return
	}
	var targets []string
	for _, target := range written {
		// A pattern (GNU make, Pattern Rules): % stands for any text that is not empty.
		if before, after, is := strings.Cut(target, "%"); !is {
			targets = append(targets, target)
		} else if len(u.target) > len(before)+len(after) && strings.HasPrefix(u.target, before) &&
			strings.HasSuffix(u.target, after) {
			return
		}
	}
	if slices.Contains(targets, u.target) || c.tree.has(path.Join(u.path, u.target)) {
		return
	}
	fix := "Targets are: " + strings.Join(visible(targets), ", ") + "."
	if near := nearest(u.target, targets); near != "" {
		fix = fmt.Sprintf("Did you mean %q?", near)
	}
	say("no-target", fmt.Sprintf("%s has no target %q", file, u.target), fix)
}

// targets lists those of a makefile; all is false when there may be others, which it includes or computes. Each is
// looked through once: all variants of a job ask the same.
func (t *Tree) targets(file string) (list []string, all bool) {
	if known, done := t.made[file]; done {
		return known, known != nil
	}
	text := t.text(file)
	list, all = []string{}, text != "" && !strings.Contains(text, "include") && !strings.Contains(text, "$(eval")
	if all {
		for _, m := range targetForm.FindAllStringSubmatch(text, -1) {
			all = all && !strings.Contains(m[1], "$")
			list = append(list, strings.Fields(m[1])...)
		}
	}
	if !all {
		list = nil
	}
	t.made[file] = list
	return list, all
}

func visible(targets []string) []string {
	list := slices.DeleteFunc(slices.Clone(targets), func(t string) bool { return strings.HasPrefix(t, ".") })
	slices.Sort(list)
	return slices.Compact(list)
}
