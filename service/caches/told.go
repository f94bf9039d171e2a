package caches

import (
	"context"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// recordOver is the time over which it is told what came of caches.
const recordOver = 30 * 24 * time.Hour

// Filter says which copies to list.
type Filter struct {
	Name  string         // only of this cache; "" any
	Line  string         // only of this branch or proposal; "" any
	After record.CacheID // the last of the page before; 0 the first page
	Limit int
}

// Saved lists a project's saved copies, the newest first.
func (s *Caches) Saved(ctx context.Context, project string, f Filter) (out api.SavedCaches, err error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return out, err
	}
	limit := min(max(1, f.Limit), 1000)
	list, err := s.Store.Caches(ctx, p.ID, store.CachePage{Name: f.Name, Line: f.Line, After: f.After, Limit: limit + 1})
	if err != nil {
		return out, err
	}
	out.Items = []api.SavedCache{}
	for i, c := range list {
		if i == limit {
			out.Next = fmt.Sprint(list[i-1].ID)
			break
		}
		out.Items = append(out.Items, api.SavedCache{ID: c.ID, Name: c.Name, Key: c.Key, Line: c.Line, Run: c.Run, Job: c.Job,
			Size: c.Size, Files: c.Files, Stored: c.Stored, Takes: c.Takes, Uses: c.Uses, Created: c.Created,
			LastUsed: c.LastUsed, Apart: c.Guard != "", Gated: c.Gated, Outside: c.Proposal != ""})
	}
	sum, err := s.Store.CacheSum(ctx, p.ID)
	if err != nil {
		return out, err
	}
	out.Size, out.Takes, out.Copies = sum.Size, sum.Takes, sum.Copies
	if out.Names, err = s.records(ctx, p.ID); err != nil {
		return out, err
	}
	out.ReusedSteps, out.ReusedMs, err = s.Store.ReusedSteps(ctx, p.ID, time.Now().Add(-recordOver))
	return out, err
}

// records tell what came of a project's caches. What a hit saves is not guessed: it is what jobs took that had nothing,
// less what they took that had what fits.
func (s *Caches) records(ctx context.Context, project record.ProjectID) ([]api.CacheRecord, error) {
	list, err := s.Store.CacheRecords(ctx, project, time.Now().Add(-recordOver))
	out := make([]api.CacheRecord, len(list))
	for i, r := range list {
		out[i] = api.CacheRecord{Pipeline: r.Pipeline, Job: r.Job, Name: r.Name, Hits: r.Hits, Nearest: r.Nearest,
			Misses: r.Misses, HitMs: r.HitMs, MissMs: r.MissMs}
		if r.HitMs != nil && r.MissMs != nil {
			out[i].SavedMs = max(0, *r.MissMs-*r.HitMs) * r.Hits
		}
	}
	return out, err
}

// Drop gives up a saved copy.
func (s *Caches) Drop(ctx context.Context, project string, id record.CacheID) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	c, err := s.Store.CacheByID(ctx, p.ID, id)
	if err != nil {
		return ground.Known(err, "saved copy %d of %s", id, project)
	}
	err = s.Acting(ctx, fact.Fact{Kind: fact.CacheDrop, Project: project,
		Before: map[string]any{"name": c.Name, "line": c.Line, "run": c.Run, "size": c.Size}},
		func(q ground.Q) error {
			return ground.Known(q.DropCache(ctx, p.ID, id), "saved copy %d of %s", id, project)
		})
	if err != nil {
		return err
	}
	return s.blobs.Delete(ctx, c.Blob)
}

// packsAtOnce is how many packs are given up in one transaction.
const packsAtOnce = 200

// DropPacks gives up packs that no copy needs and nobody has counted on since a time.
func (s *Caches) DropPacks(ctx context.Context, before time.Time) error {
	for {
		var blobs []string
		err := s.Store.Tx(ctx, func(q store.Q) (err error) {
			blobs, err = q.DropPacks(ctx, before, packsAtOnce)
			return err
		})
		if err != nil {
			return err
		}
		for _, name := range blobs {
			if err := s.blobs.Delete(ctx, name); err != nil {
				return err
			}
		}
		if len(blobs) < packsAtOnce {
			return nil
		}
	}
}
