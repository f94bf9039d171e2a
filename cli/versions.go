package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
	"gentlepiston.example/piston/source"
)

// ledgerFlags say what may be asked of the ledger.
var ledgerFlags = []cli.Flag{
	&cli.StringFlag{Name: "project", Usage: "the project of the service to ask; default: the one with this repository"},
	&cli.BoolFlag{Name: "offline", Usage: "do not ask the service"},
}

var appFlag = &cli.StringFlag{Name: "app", Usage: "only this app of piston/app.toml"}

func versionsCommand() *cli.Command {
	return &cli.Command{
		Name:      "versions",
		Usage:     "show every place where an app's version stands, and raise it",
		ArgsUsage: "[FOLDER]",
		Description: "Reads the checkout that FOLDER (default: here) is in: build scripts, manifests, property lists, " +
			"Xcode projects and the other\n" +
			"usual kinds of files; piston/app.toml names what is not found by itself. When you are signed in it asks the " +
			"service what was given out last.\n\n" +
			"Exit codes: 0 the places agree; 1 they do not, or there is none.\n\n" +
			terminal.Example("piston versions", "piston versions raise minor", "piston versions raise to 2.0.0 --dry-run"),
		Flags: append([]cli.Flag{appFlag, terminal.JSONFlag}, ledgerFlags...),
		Commands: []*cli.Command{{
			Name:      "raise",
			Usage:     "write the next version into the files of this checkout",
			ArgsUsage: "HOW [WHAT]",
			Description: "HOW is major, minor or patch; pre KIND, such as pre rc; build, for the build numbers only; date; " +
				"commits, for what the commits\n" +
				"since the last tag say; or to NAME. All places are written or none. Build numbers go up with the name.\n\n" +
				terminal.Example("piston versions raise patch", "piston versions raise pre rc", "piston versions raise to 2.0.0"),
			Flags: append([]cli.Flag{appFlag,
				&cli.BoolFlag{Name: "dry-run", Usage: "show what would change, and change nothing"}, terminal.JSONFlag},
				ledgerFlags...),
			Action: raiseHere,
		}, {
			Name:  "notes",
			Usage: "draft the notes of the next release from the commits since the last tag",
			Description: "Grouped where the commits follow Conventional Commits 1.0.0. A trailer Release-Note: TEXT wins over " +
				"a commit's own words;\n" +
				"Release-Note: none leaves it out.\n\n" +
				terminal.Example("piston versions notes", "piston versions notes > notes.md"),
			Flags:  []cli.Flag{terminal.JSONFlag},
			Action: draftNotes,
		}},
		Action: showVersions,
	}
}

// appHere is an app of a checkout, with where its versions stand.
type appHere struct {
	app   *definition.App
	found versionfile.Found
	now   versionfile.Current
	last  map[versionfile.Platform]api.LedgerLine // what the ledger gave out last; nil when it was not asked
}

// appsHere reads the apps of a checkout.
func appsHere(w *source.WorkTree, only string) ([]appHere, error) {
	text, err := readUpTo(filepath.Join(w.Dir, definition.Folder, definition.AppFile), definition.MaxFileSize+1)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, terminal.Ending(terminal.ExitFailed, err)
	}
	apps, wrong := definition.ParseApps(text)
	if apps == nil {
		for _, f := range wrong {
			fmt.Fprintf(os.Stderr, "%s\n\n", f)
		}
		return nil, terminal.Ending(terminal.ExitFailed, fmt.Errorf("%s cannot be used as it is", definition.AppsPath))
	}
	names := apps.Names()
	if only != "" {
		if _, err := apps.Named(only); err != nil {
			return nil, terminal.Ending(terminal.ExitFailed, err)
		}
		names = []string{only}
	}
	tree := treeOf(w)
	var list []appHere
	for _, name := range names {
		found := apps.App[name].Places(tree)
		list = append(list, appHere{app: apps.App[name], found: found, now: found.Current()})
	}
	return list, nil
}

// askLedger asks the service what it gave out last, when somebody is signed in. note says why it was not asked.
func askLedger(ctx context.Context, c *cli.Command, w *source.WorkTree, list []appHere) (note string) {
	if c.Bool("offline") {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	cl, project, err := serviceOf(ctx, c, w)
	if err != nil {
		return err.Error() + ": the ledger was not asked"
	}
	ledger, err := cl.Ledger(ctx, project, api.LedgerFilter{Limit: 1})
	if err != nil {
		return err.Error() + ": the ledger was not asked"
	}
	for i := range list {
		list[i].last = map[versionfile.Platform]api.LedgerLine{}
		for _, l := range ledger.Lines {
			if l.App == list[i].app.Name {
				list[i].last[versionfile.Platform(l.Platform)] = l
			}
		}
	}
	return ""
}

// highest are the highest build numbers that are known of, and the highest name.
func (a appHere) highest() (version.Parts, map[versionfile.Platform]version.BuildNumber) {
	name, builds := a.now.Name, maps.Clone(a.now.Builds)
	for platform, l := range a.last {
		builds[platform] = max(builds[platform], l.Last, l.Floor)
		if given, err := version.Parse(l.Name); err == nil && given.Compare(name) > 0 {
			name = given
		}
	}
	return name, builds
}

// treeOf is the tracked files of a checkout, as they are on this disk.
func treeOf(w *source.WorkTree) versionfile.Tree {
	links := map[string]bool{}
	t := versionfile.Tree{Link: func(name string) bool { return links[name] }, Read: func(name string) ([]byte, error) {
		return readUpTo(filepath.Join(w.Dir, filepath.FromSlash(name)), versionfile.MaxFile+1)
	}}
	for _, e := range w.Entries {
		info, err := os.Lstat(filepath.Join(w.Dir, filepath.FromSlash(e.Path)))
		if e.Mode == "160000" || err != nil {
			continue
		}
		links[e.Path] = !info.Mode().IsRegular()
		t.Paths = append(t.Paths, e.Path)
	}
	return t
}

func showVersions(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "[FOLDER]")
	if err != nil {
		return err
	}
	w, err := source.OpenWorkTree(ctx, cmp.Or(args[0], "."))
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	list, err := appsHere(w, c.String("app"))
	if err != nil {
		return err
	}
	note := askLedger(ctx, c, w, list)
	wrong := slices.ContainsFunc(list, func(a appHere) bool { return !a.agrees() })
	if c.Bool("json") {
		err = terminal.PrintJSON(terminal.Out(c), map[string]any{"apps": jsonOf(list), "note": note})
	} else {
		s := terminal.NewScreen(terminal.Out(c))
		for i, a := range list {
			if i > 0 {
				s.Line("")
			}
			a.show(s)
		}
		if note != "" {
			s.Line("%s", s.In(terminal.Faint, note))
		}
	}
	if err == nil && wrong {
		return terminal.Ending(terminal.ExitFailed, nil)
	}
	return err
}

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
	w, err := source.OpenWorkTree(ctx, ".")
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	list, err := appsHere(w, c.String("app"))
	if err != nil {
		return err
	}
	if len(list) > 1 {
		return terminal.Usage("there are several apps; say which by --app")
	}
	if note := askLedger(ctx, c, w, list); note != "" {
		fmt.Fprintln(os.Stderr, note)
	}
	return raiseApp(ctx, c, w, list[0], wish)
}

func raiseApp(ctx context.Context, c *cli.Command, w *source.WorkTree, a appHere, wish version.Wish) error {
	if wish.To == "" && !a.agrees() {
		a.show(terminal.NewScreen(os.Stderr))
		return terminal.Ending(terminal.ExitFailed,
			errors.New("the places do not agree, so that nothing follows them; say to NAME, and all will"))
	}
	known := version.Known{Today: time.Now()}
	var last map[versionfile.Platform]version.BuildNumber
	known.Now, last = a.highest()
	if wish.By == version.ByBuild && len(a.now.Name.Numbers) > 0 {
		known.Now = a.now.Name // the number of what is in the files
	}
	if wish.By == version.ByCommits {
		messages, err := w.SinceTag(ctx)
		if err != nil {
			return terminal.Ending(terminal.ExitFailed, err)
		}
		for _, m := range messages {
			known.Changes = append(known.Changes, version.ReadChange(m))
		}
	}
	name, why, err := wish.Name(known)
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	builds, err := a.app.NextBuilds(a.found, last, name, time.Now())
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	changes, left := a.found.Changes(versionfile.Next{Name: name, Builds: builds})
	files, err := versionfile.EditAll(treeOf(w), changes)
	if err == nil && !c.Bool("dry-run") {
		err = writeAll(w.Dir, files)
	}
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), map[string]any{"app": a.app.Name, "name": name.String(), "why": why,
			"builds": builds, "changes": changesJSON(changes), "left": append([]versionfile.Place{}, left...),
			"written": !c.Bool("dry-run")})
	}
	showRaise(terminal.NewScreen(terminal.Out(c)), a, name, why, changes, left, c.Bool("dry-run"))
	return nil
}

func changesJSON(changes []versionfile.Change) []map[string]any {
	out := []map[string]any{}
	for _, c := range changes {
		out = append(out, map[string]any{"place": c.Place, "value": c.Value})
	}
	return out
}

func showRaise(s *terminal.Screen, a appHere, name version.Parts, why string, changes []versionfile.Change,
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
		why := "it says its own"
		if !p.Literal() {
			why = p.Computed
		}
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("left alone: %s:%d: %s", p.File, p.Line, why)))
	}
	done := "written"
	if dry {
		done = "would be written"
	}
	s.Line("%s %s (%s): %s %s.", a.app.Name, s.In(terminal.Strong, name.String()), why, plural(len(changes), "place"),
		done)
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

// What stores take of notes, in characters.
const (
	notesAndroid = 500
	notesIOS     = 4000
)

func draftNotes(ctx context.Context, c *cli.Command) error {
	if _, err := terminal.Words(c); err != nil {
		return err
	}
	w, err := source.OpenWorkTree(ctx, ".")
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	messages, err := w.SinceTag(ctx)
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	var changes []version.Change
	for _, m := range messages {
		changes = append(changes, version.ReadChange(m))
	}
	notes := version.Draft(changes)
	length := utf8.RuneCountInString(notes.String())
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), map[string]any{"notes": notes, "text": notes.String(), "length": length})
	}
	if _, err := fmt.Fprint(terminal.Out(c), notes); err != nil {
		return err
	}
	if length > notesAndroid {
		fmt.Fprintf(os.Stderr, "%d characters: stores take %d for Android and %d for iOS\n", length, notesAndroid, notesIOS)
	}
	return nil
}
