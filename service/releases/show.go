package releases

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/packages"
	"gentlepiston.example/piston/store"
)

// Find finds a release of a project by its name.
func (s *Releases) Find(ctx context.Context, project string, at api.ReleasePath) (r store.Release, err error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return r, err
	}
	parts, err := version.Parse(at.Name)
	if err != nil {
		return r, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	r, err = s.Store.ReleaseByName(ctx, store.ReleaseKey{Project: p.ID, App: at.App, Key: parts.Key()})
	return r, ground.Known(err, "a release %s of %s", at.Name, at.App)
}

// List lists the releases of a project, newest first.
func (s *Releases) List(ctx context.Context, project string, f api.ReleaseFilter) (page api.ReleasePage, err error) {
	page.Releases = []api.Release{}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return page, err
	}
	wanted := store.ReleaseFilter{App: f.App, Contains: f.Contains, Before: f.Before, Limit: f.Limit + 1}
	if f.State != "" {
		withdrawn := f.State == "withdrawn"
		wanted.Withdrawn = &withdrawn
	}
	list, err := s.Store.Releases(ctx, p.ID, wanted)
	for i, r := range list {
		if i == f.Limit {
			page.Next = list[i-1].ID
			break
		}
		page.Releases = append(page.Releases, told(r))
	}
	return page, err
}

// told is a release as it is told.
func told(r store.Release) api.Release {
	went := make([]api.Went, len(r.Went.V))
	for i, w := range r.Went.V {
		went[i] = api.Went(w)
	}
	return api.Release{ID: r.ID, Project: r.Project, App: r.App, Name: r.Name, Builds: r.Builds.V, Run: r.Run,
		Pipeline: r.Pipeline, Branch: r.Branch, Tag: r.Tag, Commit: r.Commit, Made: r.Made, MadeBy: r.MadeBy,
		Packages: r.Packages, Size: r.Size, Went: went, Withdrawn: r.Withdrawn,
		WithdrawnBy: r.WithdrawnBy, Reason: r.WithdrawnWhy}
}

// Release tells all that is known of one, and all that has become of it as one story.
func (s *Releases) Release(ctx context.Context, project string, at api.ReleasePath) (out api.ReleaseDetail, err error) {
	r, err := s.Find(ctx, project, at)
	if err != nil {
		return out, err
	}
	out = api.ReleaseDetail{Release: told(r), Contents: []api.ReleasePackage{}, Gates: []api.Gate{}}
	parts, err := s.Store.ReleaseParts(ctx, r.ID)
	if err != nil {
		return out, err
	}
	for _, p := range parts {
		out.Contents = append(out.Contents, api.ReleasePackage{Package: packages.Told(p.Package), Artifact: p.Artifact})
	}
	gates, err := s.gates.OfRun(ctx, r.RunID)
	if err != nil {
		return out, err
	}
	for _, g := range gates {
		out.Gates = append(out.Gates, g)
	}
	slices.SortFunc(out.Gates, func(a, b api.Gate) int { return int(a.ID - b.ID) })
	if out.Notes, err = s.Notes(ctx, r); err != nil {
		return out, err
	}
	had, err := s.Store.VersionsOf(ctx, r.RunID)
	if err != nil {
		return out, err
	}
	became, err := s.Store.PublicationSteps(ctx, r.ID)
	if err != nil {
		return out, err
	}
	out.Story = story(r, had, out.Gates, became)
	return out, nil
}

// Notes are what those who use the app are told, where a version was handed out.
func (s *Releases) Notes(ctx context.Context, r store.Release) ([]api.ReleaseNote, error) {
	notes, err := s.versions.Notes(ctx, r.Project, api.ReleasePath{App: r.App, Name: r.Name})
	if errors.Is(err, ground.ErrNotFound) {
		return []api.ReleaseNote{}, nil
	}
	return notes.Languages, err
}
