package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
	"gentlepiston.example/piston/source"
)

// wishOf reads how a version is to be raised.
func wishOf(args []string) (version.Wish, error) {
	w := version.Wish{By: args[0]}
	switch {
	case args[0] == "to":
		w = version.Wish{To: args[1]}
	case args[0] == string(version.Pre):
		w.Pre = args[1]
	case args[0] == version.ByTag:
		return w, terminal.Usage("by tag is for runs; say to NAME")
	case args[1] != "":
		return w, terminal.Usage("%s says nothing behind %s", args[1], args[0])
	}
	if wrong := w.Complaint(); wrong != "" {
		return w, terminal.Usage("%s", wrong)
	}
	return w, nil
}

func raiseHere(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "HOW", "[WHAT]")
	if err != nil {
		return err
	}
	wish, err := wishOf(args)
	if err != nil {
		return err
	}
	w, a, err := appHereOf(ctx, c)
	if err != nil {
		return err
	}
	return raiseApp(ctx, c, w, a, wish)
}

func raiseApp(ctx context.Context, c *cli.Command, w *source.WorkTree, a appHere, wish version.Wish) error {
	if wish.To == "" && !a.agrees() {
		a.show(terminal.NewScreen(os.Stderr))
		return terminal.Ending(terminal.ExitFailed,
			errors.New("the places do not agree, so that nothing follows them; say to NAME, and all will"))
	}
	next, err := a.next(ctx, w, wish)
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	changes, left := a.found.Changes(next.Next)
	files, err := versionfile.EditAll(treeOf(w), changes)
	if err == nil && !c.Bool("dry-run") {
		err = writeAll(w.Dir, files)
	}
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), map[string]any{"app": a.app.Name, "name": next.Name.String(),
			"why": next.why, "builds": next.Builds, "changes": changesJSON(changes),
			"left": append([]versionfile.Place{}, left...), "written": !c.Bool("dry-run")})
	}
	showRaise(terminal.NewScreen(terminal.Out(c)), a, next, changes, left, c.Bool("dry-run"))
	return nil
}

func changesJSON(changes []versionfile.Change) []map[string]any {
	out := []map[string]any{}
	for _, c := range changes {
		out = append(out, map[string]any{"place": c.Place, "value": c.Value})
	}
	return out
}

func showRaise(s *terminal.Screen, a appHere, next nextVersion, changes []versionfile.Change,
	left []versionfile.Place, dry bool) {
	file := ""
	for i := 0; i < len(changes); {
		p, n := changes[i].Place, i
		for n < len(changes) && changes[n].Place.File == p.File && changes[n].Place.Line == p.Line {
			n++
		}
		if p.File != file {
			file = p.File
			s.Line("%s", s.In(terminal.Strong, file))
		}
		s.Line("%5d %s", p.Line, s.In(terminal.Red, "- "+onLine(p.Excerpt())))
		s.Line("%5s %s", "", s.In(terminal.Green, "+ "+onLine(versionfile.LineAfter(changes[i:n]))))
		i = n
	}
	for _, p := range left {
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("left alone: %s:%d: %s", p.File, p.Line, p.LeftFor())))
	}
	done := "written"
	if dry {
		done = "would be written"
	}
	s.Line("%s %s (%s): %s %s.", a.app.Name, s.In(terminal.Strong, next.Name.String()), next.why,
		plural(len(changes), "place"), done)
}

// nextVersion is what a wish leads to.
type nextVersion struct {
	versionfile.Next
	why string
}

func (n nextVersion) String() string {
	text := n.Name.String()
	var builds []string
	for _, p := range slices.Sorted(maps.Keys(n.Builds)) {
		builds = append(builds, fmt.Sprintf("%s %d", p, n.Builds[p]))
	}
	if len(builds) > 0 {
		text += " (" + strings.Join(builds, ", ") + ")"
	}
	return text + ": " + n.why
}

// next finds what a wish leads to from what stands in the files and what the ledger gave out.
func (a appHere) next(ctx context.Context, w *source.WorkTree, wish version.Wish) (n nextVersion, err error) {
	known := version.Known{Today: time.Now()}
	var last map[versionfile.Platform]version.BuildNumber
	known.Now, last = a.highest()
	if wish.By == version.ByBuild && len(a.now.Name.Numbers) > 0 {
		known.Now = a.now.Name // the number of what is in the files
	}
	if wish.By == version.ByCommits {
		messages, err := w.SinceTag(ctx, source.Since{And: a.released()})
		if err != nil {
			return n, err
		}
		known.Changes = version.ReadChanges(messages)
	}
	if n.Name, n.why, err = wish.Name(known); err != nil {
		return n, err
	}
	n.Builds, err = a.app.NextBuilds(a.found, last, n.Name, time.Now())
	return n, err
}

// onLine shows a line of a file on one of the screen.
func onLine(line string) string {
	return terminal.Short(strings.ReplaceAll(strings.TrimSpace(line), "\t", " "), 100)
}

// writeAll writes files, all or none: each is made beside its place first. Should putting one in its place fail, those
// before it are put back.
func writeAll(dir string, files map[string][]byte) (err error) {
	type made struct {
		at, fresh string
		mode      os.FileMode
		old       []byte
	}
	var list []made
	defer func() {
		for _, m := range list {
			_ = os.Remove(m.fresh) // what has its place is not there any more
		}
	}()
	for name, text := range files {
		at := filepath.Join(dir, filepath.FromSlash(name))
		info, err := os.Lstat(at)
		if err != nil {
			return err
		}
		old, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		m := made{at: at, mode: info.Mode().Perm(), old: old}
		if m.fresh, err = writeBeside(at, text, m.mode); err != nil {
			return err
		}
		list = append(list, m)
	}
	for i, m := range list {
		if err := os.Rename(m.fresh, m.at); err != nil {
			for _, before := range list[:i] {
				err = errors.Join(err, os.WriteFile(before.at, before.old, before.mode))
			}
			return err
		}
	}
	return nil
}

// writeBeside writes a new file in the folder of another.
func writeBeside(at string, text []byte, mode os.FileMode) (name string, err error) {
	f, err := os.CreateTemp(filepath.Dir(at), filepath.Base(at)+".*")
	if err != nil {
		return "", err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Chmod(mode), f.Close()); err != nil {
		err = errors.Join(err, os.Remove(f.Name()))
	}
	return f.Name(), err
}
