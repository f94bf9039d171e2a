package executor

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

// raise carries out a step that takes the next version of an app and writes it into the app's files.
type raise struct{ *Job }

func (r raise) execute(ctx context.Context, i int, step *definition.Step) Outcome {
	env := r.Environment(step)
	fill := func(text string) string { return strings.TrimSpace(definition.Fill(text, env)) }
	wish := version.Wish{By: fill(step.Raise.By), Pre: fill(step.Raise.Pre), To: fill(step.Raise.To)}
	if wrong := wish.Complaint(); wrong != "" {
		return Outcome{Err: errors.New(wrong)}
	}
	app, found, err := r.places(step.Raise.App)
	if err != nil {
		return Outcome{Err: err}
	}
	now := found.Current()
	if err := agreed(found, now); err != nil && !wish.Exact() {
		return Outcome{Err: fmt.Errorf("%w; mend that, or raise to a name", err)}
	}
	ask := api.RaiseRequest{App: app.Name, By: wish.By, Pre: wish.Pre, To: wish.To, Builds: map[string]int64{},
		Each: app.Build.EachPlatform()}
	if len(now.Name.Numbers) > 0 {
		ask.Name = now.Name.String()
	}
	for _, p := range app.PlatformsIn(found) {
		ask.Platforms = append(ask.Platforms, string(p))
		ask.Builds[string(p)] = int64(now.Builds[p])
	}
	n := app.Build.Numbering()
	ask.Scheme, ask.Digits, ask.Span = string(n.Scheme), n.Digits, n.Span
	var given api.Raised
	err = r.Attempt.Insist(ctx, "raising the version", func() (err error) {
		given, err = r.Attempt.Post.Raise(ctx, r.Attempt.ID(), ask)
		return err
	})
	if err != nil {
		return Outcome{Err: err}
	}
	maps.Copy(r.Attempt.Work.Env, given.Env)
	r.Attempt.Say(i, "%s is %s (%s): %s", app.Name, given.Name, buildsText(given), given.Why)
	if !given.Counts {
		r.Attempt.Say(i, "these numbers do not count: others may be given them, too")
	}
	return Outcome{Err: r.write(i, given, found)}
}

// buildsText tells the build numbers of a version.
func buildsText(r api.Raised) string {
	var list []string
	for _, platform := range slices.Sorted(maps.Keys(r.Builds)) {
		list = append(list, fmt.Sprintf("%s %d", platform, r.Builds[platform]))
	}
	return strings.Join(list, ", ")
}

// agreed is an error when an app's places contradict each other.
func agreed(found versionfile.Found, now versionfile.Current) error {
	switch {
	case len(now.Differ) > 0:
		return fmt.Errorf("the app's versions differ: %s", now.Differ[0])
	case len(now.Broken) > 0:
		p := now.Broken[0]
		return fmt.Errorf("%s:%d says %.40q, which is no version", p.File, p.Line, p.Value)
	case len(found.Problems) > 0:
		return found.Problems[0]
	}
	return nil
}

// write makes the app's places say a version.
func (j *Job) write(i int, given api.Raised, found versionfile.Found) error {
	next, err := given.Next()
	if err != nil {
		return err
	}
	changes, left := found.Changes(next)
	files, err := versionfile.EditAll(j.tree(), changes)
	if err != nil {
		return err
	}
	if err := j.Files.Replace(files); err != nil {
		return fmt.Errorf("writing the version: %w", err)
	}
	for _, c := range changes {
		j.Attempt.Say(i, "%s:%d: %s, was %s", c.Place.File, c.Place.Line, c.Value, c.Place.Value)
	}
	for _, p := range left {
		j.Attempt.Say(i, "%s:%d is left alone: %s", p.File, p.Line, p.LeftFor())
	}
	return nil
}

// TakeOver makes the job's files say what jobs before it have raised.
func (j *Job) TakeOver(i int) error {
	for _, given := range j.Attempt.Work.Raised {
		_, found, err := j.places(given.App)
		if err == nil {
			err = j.write(i, given, found)
		}
		if err != nil {
			return fmt.Errorf("writing the version %s, which a job before has raised: %w", given.Name, err)
		}
	}
	return nil
}

// places finds where an app's versions stand in the workspace.
func (j *Job) places(name string) (*definition.App, versionfile.Found, error) {
	text, err := j.readUpTo(definition.AppsPath, definition.MaxFileSize+1)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, versionfile.Found{}, err
	}
	apps, wrong := definition.ParseApps(text)
	if apps == nil {
		return nil, versionfile.Found{}, errors.New(wrong[0].String())
	}
	app, err := apps.Named(name)
	if err != nil {
		return nil, versionfile.Found{}, err
	}
	return app, app.Places(j.tree()), nil
}

// maxWorkspace bounds the files that are looked at for versions.
const maxWorkspace = 500_000

// tree is the workspace's files, but for what others wrote or a build made.
func (j *Job) tree() versionfile.Tree {
	links := map[string]bool{}
	t := versionfile.Tree{Link: func(name string) bool { return links[name] },
		Read: func(name string) ([]byte, error) { return j.readUpTo(name, versionfile.MaxFile+1) }}
	_ = fs.WalkDir(j.Files.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil || len(t.Paths) == maxWorkspace:
			return nil // a folder that a step has shut holds no version
		case d.IsDir() && name != "." && versionfile.Skipped(d.Name()):
			return fs.SkipDir
		case !d.IsDir():
			links[name] = !d.Type().IsRegular()
			t.Paths = append(t.Paths, name)
		}
		return nil
	})
	return t
}

// readUpTo reads a plain file of the workspace; longer ones come cut off.
func (j *Job) readUpTo(name string, most int64) ([]byte, error) {
	info, err := j.Files.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no plain file", name)
	}
	var f *os.File
	if f, err = j.Files.Open(name); err != nil {
		return nil, err
	}
	defer f.Close()
	var text bytes.Buffer
	_, err = io.Copy(&text, io.LimitReader(f, most))
	return text.Bytes(), err
}
