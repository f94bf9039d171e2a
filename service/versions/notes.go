package versions

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// notesDue are notes that are to be drafted, for what a run was handed out.
type notesDue struct {
	Run record.RunID `json:"run"`
	App string       `json:"app"`
}

// Kind implements river.JobArgs.
func (notesDue) Kind() string { return "draft-notes" }

// draftNotes drafts them, unless the run has lost its version meanwhile. That a repository describes its apps in a way
// that cannot be read is no reason to try again: a person can write the notes.
func (s *Versions) draftNotes(ctx context.Context, due notesDue) error {
	run, err := s.Store.RunByID(ctx, due.Run)
	if errors.Is(err, store.ErrNotFound) {
		return nil // its project is gone
	}
	if err != nil {
		return err
	}
	had, err := s.Store.VersionsOf(ctx, run.ID)
	given := Given(had, due.App)
	if err != nil || given == nil {
		return err
	}
	release, err := releaseOf(run.ProjectID, given.App, given.Name)
	if err != nil {
		return err
	}
	p, err := s.Store.ProjectByID(ctx, run.ProjectID)
	if err != nil {
		return err
	}
	platform := slices.Sorted(maps.Keys(given.Builds))[0]
	since := source.Since{Not: run.Tag, Final: !strings.Contains(given.Name, "-")}
	if since.And, err = s.Store.LastReleased(ctx, p.ID, given.App, platform, release.Key, since.Final); err != nil {
		return err
	}
	list, err := s.readNotes(ctx, p, run, given.App, since)
	if errors.Is(err, ground.ErrInvalid) {
		s.Log.Warn("notes cannot be drafted", "run", run.ID, "app", given.App, "error", err)
		return nil
	}
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		if had, err := q.VersionsOf(ctx, run.ID); err != nil || Given(had, due.App) == nil {
			return err // the name may be another run's by now
		}
		return q.DraftNotes(ctx, release, list)
	})
}

// readNotes reads them from a run's commit, and from those before.
func (s *Versions) readNotes(ctx context.Context, p store.Project, run store.Run, app string,
	since source.Since) ([]store.Note, error) {
	repo, err := source.Open(ctx, p.Remote, s.Mirror(p.ID)) // as it was when the run was planned
	if err != nil {
		return nil, err
	}
	reader, err := repo.Reader(ctx)
	if err != nil {
		return nil, err
	}
	defer reader.Close()
	f := files{repo, reader}
	described, err := f.app(run.Commit, app)
	if err != nil {
		return nil, err
	}
	messages, err := repo.SinceTag(ctx, run.Commit, since)
	if err != nil {
		return nil, err
	}
	var tree versionfile.Tree
	if described.Notes != nil && described.Notes.Files != "" {
		tree = f.tree(ctx, run.Commit)
	}
	var list []store.Note
	for _, n := range described.ReleaseNotes(tree, version.ReadChanges(messages)) {
		list = append(list, store.Note{Language: n.Language, Draft: n.Text, File: n.File, Problem: n.Problem,
			Main: n.Main})
	}
	return list, nil
}

// releaseOf is the release of an app by a name.
func releaseOf(project record.ProjectID, app, name string) (store.ReleaseKey, error) {
	parts, err := version.Parse(name)
	if err != nil {
		return store.ReleaseKey{}, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	return store.ReleaseKey{Project: project, App: app, Key: parts.Key()}, nil
}

// release finds one that was handed out, and for which platforms it is.
func (s *Versions) release(ctx context.Context, project string, at api.ReleasePath) (r store.ReleaseKey, name string,
	platforms []string, err error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return r, "", nil, err
	}
	if r, err = releaseOf(p.ID, at.App, at.Name); err != nil {
		return r, "", nil, err
	}
	list, err := s.Store.Released(ctx, r)
	if err != nil {
		return r, "", nil, err
	}
	if len(list) == 0 {
		return r, "", nil, fmt.Errorf("version %s of %s: %w; the ledger lists what was handed out", at.Name, at.App,
			ground.ErrNotFound)
	}
	for _, v := range list {
		if !slices.Contains(platforms, v.Platform) {
			platforms = append(platforms, v.Platform)
		}
	}
	return r, list[0].Name, platforms, nil
}

// Notes gives what is told of a release.
func (s *Versions) Notes(ctx context.Context, project string, at api.ReleasePath) (api.ReleaseNotes, error) {
	r, name, platforms, err := s.release(ctx, project, at)
	if err != nil {
		return api.ReleaseNotes{}, err
	}
	list, err := s.Store.Notes(ctx, r)
	out := api.ReleaseNotes{App: at.App, Name: name, Limits: api.LimitsFor(platforms), Languages: []api.ReleaseNote{}}
	for _, n := range list {
		out.Languages = append(out.Languages, noteOf(n).Measured(out.Limits))
	}
	return out, err
}

func noteOf(n store.Note) api.ReleaseNote {
	out := api.Drafted(definition.Note{Language: n.Language, Text: n.Draft, File: n.File, Problem: n.Problem,
		Main: n.Main})
	out.Revision = n.Revision
	if n.Corrected != nil {
		out.Text, out.Draft, out.From, out.By, out.At = *n.Corrected, n.Draft, "person", n.CorrectedBy, n.CorrectedAt
	}
	return out
}

// notesOf is what is told of what a run was handed out, in the language of the commits; "" when there is nothing.
func (s *Versions) notesOf(ctx context.Context, run store.Run, given *api.Raised) (string, error) {
	release, err := releaseOf(run.ProjectID, given.App, given.Name)
	if err != nil {
		return "", err
	}
	if err := s.draftNotes(ctx, notesDue{run.ID, given.App}); err != nil { // what was put off may be to come yet
		return "", err
	}
	list, err := s.Store.Notes(ctx, release)
	if err != nil || len(list) == 0 {
		return "", err
	}
	of := list[0]
	for _, n := range list {
		if n.Main {
			of = n
		}
	}
	return noteOf(of).Text, nil
}

// CorrectNotes writes what a person says instead of a draft.
func (s *Versions) CorrectNotes(ctx context.Context, project, person string, at api.ReleasePath, language string,
	in api.NotesCorrection) error {
	text, problem := definition.CleanNotes(in.Text)
	switch {
	case problem != "":
		return fmt.Errorf("the text cannot be kept: %s: %w", problem, ground.ErrInvalid)
	case !definition.IsLanguage(language):
		return fmt.Errorf("%.40q is no language's tag: write it as en or pt-BR: %w", language, ground.ErrInvalid)
	}
	return s.changeNotes(ctx, project, at, language, text, func(q ground.Q, r store.ReleaseKey) error {
		return q.CorrectNote(ctx, r, definition.Language(language), text, person, in.Revision)
	})
}

// TakeBackNotes makes notes those of the draft again.
func (s *Versions) TakeBackNotes(ctx context.Context, project string, at api.ReleasePath, language string,
	revision int) error {
	return s.changeNotes(ctx, project, at, language, "", func(q ground.Q, r store.ReleaseKey) error {
		return q.TakeBackNote(ctx, r, definition.Language(language), revision)
	})
}

// changeNotes changes those in one language, unless somebody else has changed them meanwhile.
func (s *Versions) changeNotes(ctx context.Context, project string, at api.ReleasePath, language, text string,
	change func(ground.Q, store.ReleaseKey) error) error {
	r, name, _, err := s.release(ctx, project, at)
	if err != nil {
		return err
	}
	language = definition.Language(language)
	return s.Tx(ctx, func(q ground.Q) error {
		was, err := q.Note(ctx, r, language)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := change(q, r); ground.Changed(err) && was.Revision == 0 {
			return ground.Saying(ground.ErrNotFound, "%s %s has no notes in %s", at.App, name, language)
		} else if ground.Changed(err) {
			return ground.Saying(ground.ErrExists, "somebody has changed the notes of %s %s in %s meanwhile; look at them, and "+
				"write anew", at.App, name, language)
		} else if err != nil {
			return err
		}
		f := fact.Fact{Kind: fact.NotesCorrect, Project: project, Subject: fmt.Sprintf("%s %s %s", at.App, name, language),
			After: text}
		if was.Corrected != nil {
			f.Before = *was.Corrected
		} else {
			f.Before = was.Draft
		}
		return q.Tell(ctx, f)
	})
}
