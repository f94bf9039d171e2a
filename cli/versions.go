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
			Usage: "draft the notes of the next release, from files and from the commits since the last tag",
			Description: "piston/app.toml names the files, one for each language. The draft from commits is grouped " +
				"where they follow\n" +
				"Conventional Commits 1.0.0; a trailer Release-Note: TEXT wins over a commit's own words, and " +
				"Release-Note: none\n" +
				"leaves it out.\n\n" +
				"Exit codes: 0 drafted; 1 a text is longer than stores take.\n\n" +
				terminal.Example("piston versions notes", "piston versions notes --json"),
			Flags: append([]cli.Flag{appFlag, &cli.StringFlag{Name: "language", Usage: "only in this language"},
				terminal.JSONFlag}, ledgerFlags...),
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
	count version.BuildNumber                     // the project's own, which counted apps go on from
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
			terminal.Complain("%s\n", f)
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

// appHereOf opens the checkout one is in, and finds the app that is meant, with what the ledger knows of it.
func appHereOf(ctx context.Context, c *cli.Command) (*source.WorkTree, appHere, error) {
	w, err := source.OpenWorkTree(ctx, ".")
	if err != nil {
		return nil, appHere{}, terminal.Ending(terminal.ExitFailed, err)
	}
	list, err := appsHere(w, c.String("app"))
	if err != nil {
		return nil, appHere{}, err
	}
	if len(list) > 1 {
		return nil, appHere{}, terminal.Usage("there are several apps; say which by --app")
	}
	if note := askLedger(ctx, c, w, list); note != "" {
		terminal.Complain("%s", note)
	}
	return w, list[0], nil
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
		list[i].count = ledger.Count
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
	if a.app.Build.Numbering().Counts() {
		for _, platform := range a.app.PlatformsIn(a.found) {
			builds[platform] = max(builds[platform], a.count)
		}
	}
	for platform, l := range a.last {
		builds[platform] = max(builds[platform], l.Last, l.Floor)
		if given, err := version.Parse(l.Name); err == nil && given.Compare(name) > 0 {
			name = given
		}
	}
	return name, builds
}

// released is the commit that was released last, as far as the ledger knows; "" when it was not asked.
func (a appHere) released() string {
	for _, l := range a.last {
		if l.Released != "" {
			return l.Released
		}
	}
	return ""
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
