package caches

import (
	"context"
	"io"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Whoever may start a project's runs may have on their own machine what such runs have saved, as they may have what
// these keep: to read. That of runs with protected secrets, and of proposals from outside, stays here.

// FindFor finds, for somebody's own machine, the copy that fits, else the nearest: of a branch, then of the main one.
func (s *Caches) FindFor(ctx context.Context, project, line string, in api.CacheWanted) (api.CacheFound, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.CacheFound{}, err
	}
	w := store.CacheWanted{ProjectID: p.ID, Key: in.Key, Shape: in.Shape}
	if !in.Exact {
		if w.Lines, err = s.nearest(ctx, store.Run{ProjectID: p.ID, Branch: line}); err != nil {
			return api.CacheFound{}, err
		}
	}
	var c store.Cache
	err = s.Store.Tx(ctx, func(q store.Q) (err error) {
		c, err = q.NearestCache(ctx, w)
		if err == nil && (!in.Step || c.Key == in.Key) {
			err = q.UseCache(ctx, c.ID)
		}
		return err
	})
	if err != nil {
		return api.CacheFound{}, ground.Known(err, "cache %.12s", in.Key)
	}
	return found(c, in), nil
}

// lent finds a copy that somebody may have on their own machine.
func (s *Caches) lent(ctx context.Context, project string, id record.CacheID) (store.Cache, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return store.Cache{}, err
	}
	c, err := s.Store.CacheByID(ctx, p.ID, id)
	if err == nil && (c.Guard != "" || c.Proposal != "") {
		err = store.ErrNotFound
	}
	return c, ground.Known(err, "saved copy %d of %s", id, project)
}

// TreeFor reads the written tree of such a copy.
func (s *Caches) TreeFor(ctx context.Context, project string, id record.CacheID) (io.ReadCloser, error) {
	c, err := s.lent(ctx, project, id)
	if err != nil {
		return nil, err
	}
	return s.tree(ctx, c)
}

// PackFor reads a part of a pack that such a copy needs.
func (s *Caches) PackFor(ctx context.Context, project string, id record.CacheID, pack tree.PackID,
	start, n int64) (io.ReadCloser, error) {
	c, err := s.lent(ctx, project, id)
	if err != nil {
		return nil, err
	}
	return s.pack(ctx, c, pack, start, n)
}
