// Package caches keeps what runs restore instead of making it again: trees, whose files are pieces that are stored
// once for all who may know of them. What a proposal from outside has made, nobody but that proposal restores; what
// a secret may have opened, no run from outside does; runs that are given protected secrets have copies of their
// own. Nobody is told of a piece who could not restore a copy that it is in.
//
// A copy is a help and no condition. What is damaged is forgotten when that is found, and made anew.
package caches

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/imprint"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// Caches is the room of saved copies.
type Caches struct {
	*ground.Ground
	blobs *blob.Blobs
}

// New makes it.
func New(g *ground.Ground, blobs *blob.Blobs) *Caches { return &Caches{g, blobs} }

// running finds the run of an attempt that is running.
func (s *Caches) running(ctx context.Context, attempt record.AttemptID) (store.Run, error) {
	a, err := s.Store.IsRunning(ctx, attempt)
	if err != nil {
		return store.Run{}, ground.Gone(err, attempt)
	}
	return s.Store.RunByID(ctx, a.RunID)
}

// proposalOf names the proposal from outside that a run is of; "" for any other.
func proposalOf(run store.Run) string {
	if !run.Outside {
		return ""
	}
	return run.Target + "/" + run.Proposal
}

// lineOf names the branch or proposal of a run.
func lineOf(run store.Run) string {
	if run.Proposal != "" {
		return "proposal " + run.Target + "/" + run.Proposal
	}
	return run.Branch
}

// nearest names the branches and proposals whose copies are nearest to a run's: its own, the one it goes to, the main
// one.
func (s *Caches) nearest(ctx context.Context, run store.Run) (lines []string, err error) {
	p, err := s.Store.ProjectByID(ctx, run.ProjectID)
	if err != nil {
		return nil, err
	}
	main := ""
	if repo, err := source.Open(ctx, p.Remote, s.Mirror(p.ID)); err == nil {
		main, _ = repo.MainBranch() // one that cannot be read now is nobody's relative
	}
	for _, l := range []string{lineOf(run), run.Target, main} {
		if l != "" && !slices.Contains(lines, l) {
			lines = append(lines, l)
		}
	}
	return lines, nil
}

// spaceOf is that of a run's pieces.
func spaceOf(run store.Run) store.Space {
	return store.Space{ProjectID: run.ProjectID, Guard: run.Guard, Gated: run.Gated, Proposal: proposalOf(run)}
}

// Find finds the copy that fits what a running attempt wants, else the nearest: of the same branch or proposal,
// then of the branch it came from or goes to, then of the main one. It counts as used.
func (s *Caches) Find(ctx context.Context, attempt record.AttemptID, in api.CacheWanted) (api.CacheFound, error) {
	run, err := s.running(ctx, attempt)
	if err != nil {
		return api.CacheFound{}, err
	}
	w := store.CacheWanted{ProjectID: run.ProjectID, Guard: run.Guard, Outside: run.Outside, Proposal: proposalOf(run),
		Key: in.Key, Shape: in.Shape}
	if !in.Exact {
		if w.Lines, err = s.nearest(ctx, run); err != nil {
			return api.CacheFound{}, err
		}
	}
	var c store.Cache
	err = s.Store.Tx(ctx, func(q store.Q) (err error) {
		c, err = q.NearestCache(ctx, w)
		if err == nil && in.Step && c.Key != in.Key {
			return nil // it is only compared with
		}
		if err == nil && c.Gated && !run.Gated {
			err = q.Gate(ctx, run.ID)
		}
		if err == nil {
			err = q.UseCache(ctx, c.ID)
		}
		return err
	})
	if err != nil {
		return api.CacheFound{}, ground.Known(err, "cache %.12s", in.Key)
	}
	return found(c, in), nil
}

func found(c store.Cache, in api.CacheWanted) api.CacheFound {
	return api.CacheFound{ID: c.ID, Exact: c.Key == in.Key, Tree: hex.EncodeToString(c.Digest), Size: c.Size,
		Files: c.Files, Run: c.Run, Line: c.Line, Differs: imprint.Differs(c.Followed.V, in.Followed)}
}

// restorable finds a copy that a running attempt may restore.
func (s *Caches) restorable(ctx context.Context, attempt record.AttemptID, id record.CacheID) (store.Run, store.Cache,
	error) {
	run, err := s.running(ctx, attempt)
	if err != nil {
		return run, store.Cache{}, err
	}
	c, err := s.Store.CacheByID(ctx, run.ProjectID, id)
	mine := c.Proposal == proposalOf(run)
	if err == nil && (c.Guard != run.Guard || c.Proposal != "" && !mine || c.Gated && run.Outside) {
		err = store.ErrNotFound
	}
	if err == nil && c.Gated && !run.Gated {
		err = s.Store.Gate(ctx, run.ID) // by whatever way it learned of it
		run.Gated = true
	}
	return run, c, ground.Known(err, "saved copy %d", id)
}

// Tree reads the written tree of a copy.
func (s *Caches) Tree(ctx context.Context, attempt record.AttemptID, id record.CacheID) (io.ReadCloser, error) {
	_, c, err := s.restorable(ctx, attempt, id)
	if err != nil {
		return nil, err
	}
	return s.tree(ctx, c)
}

func (s *Caches) tree(ctx context.Context, c store.Cache) (io.ReadCloser, error) {
	r, err := s.blobs.Open(ctx, c.Blob)
	if errors.Is(err, blob.ErrNotFound) {
		if dropErr := s.drop(ctx, c); dropErr != nil {
			return nil, dropErr
		}
		return nil, fmt.Errorf("saved copy %d: its file is gone: %w", c.ID, ground.ErrNotFound)
	}
	return r, err
}

// Pack reads a part of a pack that a copy needs.
func (s *Caches) Pack(ctx context.Context, attempt record.AttemptID, id record.CacheID, pack tree.PackID,
	start, n int64) (io.ReadCloser, error) {
	_, c, err := s.restorable(ctx, attempt, id)
	if err != nil {
		return nil, err
	}
	return s.pack(ctx, c, pack, start, n)
}

func (s *Caches) pack(ctx context.Context, c store.Cache, pack tree.PackID, start, n int64) (io.ReadCloser, error) {
	p, err := s.Store.PackOf(ctx, c.ID, pack)
	if err != nil {
		return nil, ground.Known(err, "pack %d of saved copy %d", pack, c.ID)
	}
	if start > p.Size || n > p.Size-start {
		return nil, fmt.Errorf("pack %d has %d bytes, and what is asked for is %w: from %d on %d", pack, p.Size,
			ground.ErrInvalid, start, n)
	}
	r, err := s.blobs.Range(ctx, p.Blob, start, n)
	if errors.Is(err, blob.ErrNotFound) {
		return nil, fmt.Errorf("pack %d: its file is gone: %w", pack, ground.ErrNotFound)
	}
	return r, err
}
