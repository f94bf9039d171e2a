// Package packages keeps what was found in the packages that runs have made, holds them against the checklist, and
// tells what has grown. The rules are read at the run's commit: nothing that a step writes changes them.
package packages

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"reflect"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/checklist"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/service/versions"
	"gentlepiston.example/piston/store"
)

// Packages is the room of packages.
type Packages struct {
	*ground.Ground
	vault    *vault.Vault
	versions *versions.Versions
}

// New makes it.
func New(g *ground.Ground, v *vault.Vault, of *versions.Versions) *Packages {
	return &Packages{g, v, of}
}

// Judge holds packages that a step has looked into against the checklist, and keeps what was found.
func (s *Packages) Judge(ctx context.Context, attempt record.AttemptID, in api.PackagesSeen) (out api.Judged,
	err error) {
	run, job, err := s.versions.RunOf(ctx, attempt)
	if err != nil {
		return out, err
	}
	if in.Step >= len(job.Step) || job.Step[in.Step].Checklist == nil {
		return out, fmt.Errorf("step %d of the job holds nothing against the checklist: %w", in.Step+1, ground.ErrForbidden)
	}
	apps, err := s.versions.AppsAt(ctx, run)
	if err != nil {
		return out, err
	}
	raised, err := s.Store.VersionsOf(ctx, run.ID)
	if err != nil {
		return out, err
	}
	out.Packages = []api.JudgedPackage{}
	for _, seen := range in.Packages {
		one, err := s.judge(ctx, attempt, run, job.Step[in.Step].Checklist, apps, raised, in.Step, seen)
		if err != nil {
			return out, err
		}
		out.Packages = append(out.Packages, one)
		out.Failed = out.Failed || checklist.Failed(one.Findings)
	}
	return out, nil
}

func (s *Packages) judge(ctx context.Context, attempt record.AttemptID, run store.Run, do *action.Checklist,
	apps *definition.Apps, raised []store.Version, step int, seen api.PackageSeen) (out api.JudgedPackage, err error) {
	facts, err := sound(seen.Facts)
	if err != nil {
		return out, fmt.Errorf("%.200q: %w", seen.File, err)
	}
	p := checklist.Package{File: seen.File, Facts: facts, Today: time.Now()}
	if p.App, err = appOf(apps, do.App, facts); err != nil {
		return out, err
	}
	if p.App != nil {
		if v := versions.Given(raised, p.App.Name); v != nil {
			p.Name = v.Name
			if n := v.Builds[facts.Platform]; n > 0 {
				p.Build = fmt.Sprint(n)
			}
		}
	}
	row := store.Package{Run: run.Number, Pipeline: run.Pipeline, File: seen.File, SHA256: seen.SHA256, Size: facts.Size,
		Kind: string(facts.Kind), Platform: facts.Platform, App: facts.ID, Version: facts.Version, Build: facts.Build}
	before, err := s.Store.PackageBefore(ctx, run.ProjectID, row)
	switch {
	case err == nil:
		last, err := s.Store.PackageFacts(ctx, before.ID)
		if err != nil {
			return out, err
		}
		p.Last, out.LastRun, out.LastSize = &last, before.Run, before.Size
	case !errors.Is(err, store.ErrNotFound):
		return out, err
	}
	row.Findings.V = checklist.Judge(p)
	out.File, out.Findings = seen.File, row.Findings.V
	err = s.Tx(ctx, func(q ground.Q) (err error) {
		out.ID, err = q.AddPackage(ctx, run.ProjectID, run.ID, step, row, facts)
		if err == nil && slices.ContainsFunc(row.Findings.V, func(f checklist.Breach) bool { return f.Asked }) {
			err = q.AskAbout(ctx, attempt, out.ID, p.App.Checklist.Ask)
		}
		return err
	})
	return out, err
}

// appOf is whose package it is: the app that the step names, or the one with its id; nil when there is none.
func appOf(apps *definition.Apps, named string, f appfile.Facts) (*definition.App, error) {
	if named != "" {
		app, err := apps.Named(named)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
		}
		return app, nil
	}
	return apps.WithID(f.Platform, f.ID), nil
}

// sound refuses facts that no package has, and takes away what no record holds: whoever looked into the package did it
// where strangers' code had run.
func sound(f appfile.Facts) (appfile.Facts, error) {
	for what, text := range map[string]string{"id": f.ID, "version": f.Version, "build": f.Build, "platform": f.Platform} {
		if len(text) > 255 || strings.ContainsRune(text, 0) {
			return f, fmt.Errorf("its %s is %w: %.60q", what, ground.ErrInvalid, text)
		}
	}
	c, err := png.DecodeConfig(bytes.NewReader(f.Picture))
	if err != nil || len(f.Picture) > maxPictureBytes || c.Width > maxPicture || c.Height > maxPicture {
		f.Picture = nil // of others than PNGs one would have to know more
	}
	tidy(reflect.ValueOf(&f).Elem())
	return f, nil
}

// The bounds of what a package says of itself.
const (
	maxText         = 2000
	maxPicture      = 512 // pixels
	maxPictureBytes = 64 << 10
)

func plain(text string) string {
	text = strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "?")
	if len(text) > maxText {
		text = strings.ToValidUTF8(text[:maxText], "") + "…"
	}
	return text
}

// tidy makes every text that is in a value plain, wherever it stands: a field that is added is not forgotten.
func tidy(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		v.SetString(plain(v.String()))
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				tidy(v.Field(i))
			}
		}
	case reflect.Slice:
		for i := range v.Len() {
			tidy(v.Index(i))
		}
	case reflect.Pointer:
		if !v.IsNil() {
			tidy(v.Elem())
		}
	case reflect.Interface:
		if !v.IsNil() {
			v.Set(tidied(v.Elem()))
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			value := tidied(v.MapIndex(key))
			v.SetMapIndex(key, reflect.Value{})
			v.SetMapIndex(tidied(key), value)
		}
	}
}

// tidied is a tidy copy of what cannot be changed where it stands.
func tidied(v reflect.Value) reflect.Value {
	out := reflect.New(v.Type()).Elem()
	out.Set(v)
	tidy(out)
	return out
}

// Packages lists those that runs of a project have made, newest first.
func (s *Packages) Packages(ctx context.Context, project string, f api.PackageFilter) (api.PackagePage, error) {
	out := api.PackagePage{Packages: []api.Package{}}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return out, err
	}
	list, err := s.Store.Packages(ctx, p.ID, store.PackageFilter{App: f.App, Kind: f.Kind, Version: f.Version,
		Commit: f.Commit, SHA256: f.SHA256, BuildID: f.BuildID, Run: f.Run, Before: f.Before, Limit: f.Limit + 1})
	if err != nil {
		return out, err
	}
	if len(list) > f.Limit {
		list = list[:f.Limit]
		out.Next = list[f.Limit-1].ID
	}
	for _, row := range list {
		out.Packages = append(out.Packages, Told(row))
	}
	return out, nil
}

func Told(p store.Package) api.Package {
	out := api.Package{ID: p.ID, Run: p.Run, Pipeline: p.Pipeline, Branch: p.Branch, Commit: p.Commit, State: p.State,
		At: p.At, File: p.File, SHA256: p.SHA256, Size: p.Size, Kind: appfile.Kind(p.Kind), Platform: p.Platform, App: p.App,
		Version: p.Version, Build: p.Build, Findings: len(p.Findings.V)}
	for _, f := range p.Findings.V {
		if f.Against() {
			out.Failed++
		}
		if f.Asked {
			out.Asked++
		}
	}
	return out
}

// maxChanges is how many entries are told that differ from the package before.
const maxChanges = 100

// find gives a package of a project.
func (s *Packages) find(ctx context.Context, project string, id record.PackageID) (p store.Project, row store.Package,
	err error) {
	if p, err = s.FindProject(ctx, project); err != nil {
		return p, row, err
	}
	row, err = s.Store.PackageByID(ctx, p.ID, id)
	return p, row, ground.Known(err, "package %d of %s", id, project)
}

// Package tells all of one, and how it differs from the one before it.
func (s *Packages) Package(ctx context.Context, project string, id record.PackageID) (out api.PackageDetail,
	err error) {
	p, row, err := s.find(ctx, project, id)
	if err != nil {
		return out, err
	}
	out.Package, out.Checklist = Told(row), row.Findings.V
	if out.Facts, err = s.Store.PackageFacts(ctx, id); err != nil {
		return out, err
	}
	if out.Since, err = s.since(ctx, p.ID, row, out.Facts, s.Store.PackageBefore); err != nil {
		return out, err
	}
	out.Released, err = s.since(ctx, p.ID, row, out.Facts, s.Store.PackageReleased)
	if out.Released != nil && out.Since != nil && out.Released.Package.ID == out.Since.Package.ID {
		out.Released = nil
	}
	return out, err
}

// since compares a package with one that find gives; nil when there is none.
func (s *Packages) since(ctx context.Context, project record.ProjectID, row store.Package, facts appfile.Facts,
	find func(context.Context, record.ProjectID, store.Package) (store.Package, error)) (*api.PackageSince, error) {
	before, err := find(ctx, project, row)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	last, err := s.Store.PackageFacts(ctx, before.ID)
	if err != nil {
		return nil, err
	}
	out := &api.PackageSince{Package: Told(before)}
	out.Groups, out.Entries = appfile.Compare(last, facts, maxChanges)
	return out, nil
}
