package versions

import (
	"context"
	"errors"
	"fmt"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/versionfile"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// files are those of a repository's commits, as far as they say something of its apps.
type files struct {
	repo   source.Repo
	reader *source.Reader
}

// apps reads the apps of a commit.
func (f files) apps(commit string) (*definition.Apps, error) {
	text, err := f.reader.File(commit, definition.AppsPath, definition.MaxFileSize)
	if err != nil && !errors.Is(err, source.ErrNoObject) {
		return nil, err
	}
	apps, wrong := definition.ParseApps(text.Text)
	if apps == nil {
		return nil, fmt.Errorf("%s cannot be used as it is at commit %.12s: %s: %w", definition.AppsPath, commit,
			wrong[0].Message, ground.ErrInvalid)
	}
	return apps, nil
}

// AppsAt reads the apps of a run's commit.
func (s *Versions) AppsAt(ctx context.Context, run store.Run) (*definition.Apps, error) {
	p, err := s.FindProject(ctx, run.Project)
	if err != nil {
		return nil, err
	}
	repo, err := source.Open(ctx, p.Remote, s.Mirror(p.ID)) // as it was when the run was planned
	if err != nil {
		return nil, err
	}
	reader, err := repo.Reader(ctx)
	if err != nil {
		return nil, err
	}
	defer reader.Close()
	return files{repo, reader}.apps(run.Commit)
}

// app finds one of them.
func (f files) app(commit, name string) (*definition.App, error) {
	apps, err := f.apps(commit)
	if err != nil {
		return nil, err
	}
	if name == definition.SoleApp && apps.App[name] == nil {
		name = ""
	}
	app, err := apps.Named(name)
	if err != nil {
		return nil, fmt.Errorf("at commit %.12s %w: %w", commit, err, ground.ErrInvalid)
	}
	return app, nil
}

// places finds where an app's versions stand in a commit.
func (f files) places(ctx context.Context, app, commit string) (versionfile.Found, error) {
	a, err := f.app(commit, app)
	if err != nil {
		return versionfile.Found{}, err
	}
	return a.Places(f.tree(ctx, commit)), nil
}

// tree is the files of a commit.
func (f files) tree(ctx context.Context, commit string) versionfile.Tree {
	t := versionfile.Tree{Read: func(name string) ([]byte, error) {
		file, err := f.reader.File(commit, name, versionfile.MaxFile)
		if err == nil && file.Text == nil {
			err = fmt.Errorf("it has more than %d MiB", versionfile.MaxFile>>20)
		}
		return file.Text, err
	}}
	links := map[string]bool{}
	entries, _ := f.repo.Tree(ctx, commit) // without any there is no place, which is said
	for _, e := range entries {
		links[e.Path] = e.Mode == "120000"
		if e.Mode != "160000" {
			t.Paths = append(t.Paths, e.Path)
		}
	}
	t.Link = func(name string) bool { return links[name] }
	return t
}
