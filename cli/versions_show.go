package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

// agrees tells whether there are versions, and all say the same.
func (a appHere) agrees() bool {
	return len(a.now.Differ)+len(a.now.Broken)+len(a.found.Problems) == 0 && len(a.versions()) > 0
}

// versions are the places of names and numbers.
func (a appHere) versions() []versionfile.Place {
	return slices.DeleteFunc(slices.Clone(a.found.Places), func(p versionfile.Place) bool {
		return p.Kind == versionfile.ID
	})
}

func (a appHere) show(s *terminal.Screen) {
	title := a.app.Name
	if name := a.now.Name; len(name.Numbers) > 0 {
		title += " " + name.String()
	}
	s.Line("%s", s.In(terminal.Strong, title))
	if len(a.versions()) == 0 {
		s.Line("No version stands in any file. piston/app.toml can name places: see docs/reference/pipeline.md.")
	}
	var rows [][]string
	for _, p := range a.versions() {
		value, note := p.Value, ""
		switch {
		case !p.Literal():
			value, note = "—", s.In(terminal.Faint, p.Computed)
		case a.isWrong(p):
			note = s.In(terminal.Red, "differs")
		}
		rows = append(rows, []string{fmt.Sprintf("%s:%d", p.File, p.Line), string(p.Kind), value,
			cmp.Or(string(p.Platform), "both"), p.Of, note})
	}
	if len(rows) > 0 {
		s.Table([]string{"PLACE", "IS", "SAYS", "FOR", "OF", ""}, rows)
	}
	for _, d := range a.now.Differ {
		s.Line("%s %s.", s.In(terminal.Red, "They differ:"), d)
	}
	for _, p := range a.now.Broken {
		s.Line("%s %s:%d says %s.", s.In(terminal.Red, "No version:"), p.File, p.Line, terminal.Short(p.Value, 40))
	}
	for _, p := range a.found.Problems {
		s.Line("%s %s.", s.In(terminal.Red, "Not read:"), p)
	}
	for _, p := range a.versions() {
		if !p.Literal() {
			s.Line("%s", s.In(terminal.Faint, "What is computed is left alone: pass the version in by PISTON_VERSION_NAME and "+
				"PISTON_BUILD_NUMBER."))
			break
		}
	}
	for _, p := range []versionfile.Platform{versionfile.Android, versionfile.IOS} {
		if l, is := a.last[p]; is {
			s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("The ledger gave out last for %s: %s (%d)", p,
				cmp.Or(l.Name, "no name"), max(l.Last, l.Floor))))
		}
	}
	if next := a.nextNames(); next != "" {
		s.Line("%s", s.In(terminal.Faint, "Next: "+next))
	}
}

func (a appHere) isWrong(p versionfile.Place) bool {
	return slices.Contains(a.now.Broken, p) ||
		slices.ContainsFunc(a.now.Differ, func(d versionfile.Difference) bool { return d.Place == p })
}

// nextNames tells what sizes lead to.
func (a appHere) nextNames() string {
	name, builds := a.highest()
	if len(name.Numbers) == 0 {
		return ""
	}
	var list []string
	for _, by := range []version.Size{version.Patch, version.Minor, version.Major} {
		if next, err := name.Raise(by, ""); err == nil {
			list = append(list, string(by)+" "+next.String())
		}
	}
	numbers, err := a.app.NextBuilds(a.found, builds, name, time.Now())
	for _, p := range slices.Sorted(maps.Keys(numbers)) {
		if err == nil {
			list = append(list, fmt.Sprintf("%s build %d", p, numbers[p]))
		}
	}
	return strings.Join(list, " · ")
}

func jsonOf(list []appHere) []map[string]any {
	out := []map[string]any{}
	for _, a := range list {
		name := ""
		if len(a.now.Name.Numbers) > 0 {
			name = a.now.Name.String()
		}
		differ := []map[string]any{}
		for _, d := range a.now.Differ {
			differ = append(differ, map[string]any{"place": d.Place, "from": d.From})
		}
		out = append(out, map[string]any{"app": a.app.Name, "name": name, "builds": a.now.Builds, "agree": a.agrees(),
			"places": append([]versionfile.Place{}, a.found.Places...), "differ": differ, "ledger": a.last,
			"broken":   append([]versionfile.Place{}, a.now.Broken...),
			"problems": append([]versionfile.Problem{}, a.found.Problems...)})
	}
	return out
}
