package report

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/keep"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// What runs leave behind is given up by rules. The record goes first, then the blob: what a crash leaves between them
// is a blob that no record speaks of, which the sweep finds. A blob is written before its record, so one is an orphan
// only when it has been there for longer than any writing takes.

const (
	sweepEvery  = 10 * time.Minute
	orphanAfter = 24 * time.Hour
	sweepAtOnce = 2000
)

// rules are those in force for a project.
func (s *Report) rules(ctx context.Context, project record.ProjectID) (inForce, own keep.Rules, err error) {
	if own, err = s.Store.Rules(ctx, project); err != nil {
		return inForce, own, err
	}
	all, err := s.Store.Rules(ctx, 0)
	return own.Over(all).Over(keep.Default), own, err
}

func cutOf(r keep.Rules, now time.Time) store.Cut {
	return store.Cut{Log: keep.Before(now, r.LogDays), Artifact: keep.Before(now, r.ArtifactDays),
		Cache: keep.Before(now, r.CacheDays),
		Hand:  keep.Before(now, r.HandDays), ArtifactRuns: r.ArtifactRuns, CacheBytes: r.CacheBytes}
}

// Kept tells what is kept of a project, or with "" of all, by which rules, and how much goes.
func (s *Report) Kept(ctx context.Context, project string) (api.Kept, error) {
	id, err := s.projectOrAll(ctx, project)
	if err != nil {
		return api.Kept{}, err
	}
	inForce, own, err := s.rules(ctx, id)
	if err != nil {
		return api.Kept{}, err
	}
	k := api.Kept{Rules: inForce, Own: own, Sums: []api.KeptSum{}, Reserve: s.Space.Reserve}
	if space, err := disk.Of(s.Home()); err == nil {
		k.DiskFree = space.Free
	}
	sums, err := s.Store.KeptSums(ctx, id, s.cutFor(id, inForce))
	for _, sum := range sums {
		k.Sums = append(k.Sums, api.KeptSum(sum))
		k.Frees += sum.GoingBytes
	}
	return k, err
}

// cutFor is what goes now. Of all projects together nothing is said to go: each has rules of its own.
func (s *Report) cutFor(project record.ProjectID, r keep.Rules) store.Cut {
	if project == 0 {
		return store.Cut{}
	}
	return cutOf(r, time.Now())
}

// projectOrAll finds a project's id; 0, which stands for all, for "".
func (s *Report) projectOrAll(ctx context.Context, name string) (record.ProjectID, error) {
	if name == "" {
		return 0, nil
	}
	p, err := s.FindProject(ctx, name)
	return p.ID, err
}

// KeptFilter says which things that are kept to list.
type KeptFilter struct {
	Kind    string
	Goes    *bool
	Largest bool
	After   string // KeptItems.Next of the page before
	Limit   int
}

// KeptItems lists what is kept of a project, or with "" of all.
func (s *Report) KeptItems(ctx context.Context, project string, f KeptFilter) (api.KeptItems, error) {
	page := api.KeptItems{Items: []api.KeptItem{}}
	id, err := s.projectOrAll(ctx, project)
	if err != nil {
		return page, err
	}
	inForce, _, err := s.rules(ctx, id)
	if err != nil {
		return page, err
	}
	part := store.KeptPage{Kind: f.Kind, Goes: f.Goes, Largest: f.Largest, Limit: f.Limit + 1}
	if f.After != "" {
		if part.After, err = placeOf(f.After); err != nil {
			return page, err
		}
	}
	list, err := s.Store.Kept(ctx, id, s.cutFor(id, inForce), part)
	for i, k := range list {
		if i == f.Limit {
			page.Next = placeAfter(list[i-1])
			break
		}
		page.Items = append(page.Items,
			api.KeptItem{Kind: k.Kind, Project: k.Project, Run: k.Run, What: k.What, Size: k.Size, Since: k.Since, Goes: k.Goes})
	}
	return page, err
}

// place is where a page of things ends.
type place struct {
	Key, ID    int64
	Kind, What string
}

func placeAfter(k store.Kept) string {
	text, _ := json.Marshal(place{k.Key, k.ID, k.Kind, k.What}) // it holds nothing that cannot be written
	return base64.RawURLEncoding.EncodeToString(text)
}

func placeOf(text string) (*store.Kept, error) {
	var at place
	plain, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(plain, &at)
	}
	if err != nil || strings.IndexByte(at.Kind+at.What, 0) >= 0 {
		return nil, fmt.Errorf("after is %w: give what next of the page before says", ground.ErrInvalid)
	}
	return &store.Kept{Key: at.Key, ID: at.ID, Kind: at.Kind, What: at.What}, nil
}

// SetRules says by which rules a project's things go; with "" those for all projects.
func (s *Report) SetRules(ctx context.Context, project string, r keep.Rules) error {
	if err := r.Check(); err != nil {
		return fmt.Errorf("%w: %w", ground.ErrInvalid, err)
	}
	id, err := s.projectOrAll(ctx, project)
	if err != nil {
		return err
	}
	was, err := s.Store.Rules(ctx, id)
	if err != nil {
		return err
	}
	return s.Acting(ctx, fact.Fact{Kind: fact.KeptRules, Project: project, Before: was, After: r},
		func(q ground.Q) error { return q.SetRules(ctx, id, r, ground.WhoAsks(ctx).Name) })
}

// Sweep gives up what the rules say, then looks for orphans.
func (s *Report) Sweep(ctx context.Context) error {
	projects, err := s.Store.ProjectsAmong(ctx, nil, true, store.Page{})
	if err != nil {
		return err
	}
	for _, p := range projects {
		inForce, _, err := s.rules(ctx, p.ID)
		if err != nil {
			return err
		}
		list, err := s.Store.Outdated(ctx, p.ID, cutOf(inForce, time.Now()), sweepAtOnce)
		if err != nil {
			return err
		}
		if err := s.giveUp(ctx, list); err != nil {
			return err
		}
	}
	if err := s.caches.DropPacks(ctx, time.Now().Add(-orphanAfter)); err != nil {
		return err
	}
	return s.DropOrphans(ctx, time.Now().Add(-orphanAfter))
}

// giveUp removes things and their blobs.
func (s *Report) giveUp(ctx context.Context, list []store.Kept) error {
	for _, k := range list {
		err := s.Store.GiveUp(ctx, k)
		if errors.Is(err, store.ErrNotFound) {
			continue // another server was first, or it was used this moment
		}
		if err == nil {
			err = s.blobs.Delete(ctx, k.Blob)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// orphansAsked is how many blobs are asked for at a time.
const orphansAsked = 500

// DropOrphans removes blobs that no record speaks of and that were written before a time.
func (s *Report) DropOrphans(ctx context.Context, before time.Time) error {
	var names []string
	ask := func() error {
		referenced, err := s.Store.Referenced(ctx, names)
		if err != nil {
			return err
		}
		for _, name := range names {
			if !referenced[name] {
				s.Log.Info("a blob that nothing speaks of is removed", "blob", name)
				if err := s.blobs.Delete(ctx, name); err != nil {
					return err
				}
			}
		}
		names = names[:0]
		return nil
	}
	err := s.blobs.Each(ctx, func(b blob.Entry) error {
		if !b.Written.Before(before) {
			return nil
		}
		if names = append(names, b.Name); len(names) < orphansAsked {
			return nil
		}
		return ask()
	})
	if err == nil && len(names) > 0 {
		err = ask()
	}
	return err
}

// inNeed is how long packs stay on which a job may count that is saving, when the disk is almost full. One that takes
// longer finds them gone, and saves nothing.
const inNeed = 5 * time.Minute

// MakeRoom gives up caches, those longest not used first, while the disk has less than its reserve: they are a help and
// no promise.
func (s *Report) MakeRoom(ctx context.Context) error {
	for s.Space.Held() != "" {
		list, err := s.Store.LeastUsedCaches(ctx, 20)
		if err != nil || len(list) == 0 {
			return err
		}
		s.Log.Warn("the disk is almost full; caches are given up", "caches", len(list))
		if err := s.giveUp(ctx, list); err != nil {
			return err
		}
		if err := s.caches.DropPacks(ctx, time.Now().Add(-inNeed)); err != nil {
			return err
		}
		s.Space.Again()
	}
	return nil
}
