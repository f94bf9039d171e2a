package caches

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// drop forgets a copy.
func (s *Caches) drop(ctx context.Context, c store.Cache) error {
	s.Log.Warn("a saved copy of a cache is damaged, and dropped", "cache", c.ID, "name", c.Name)
	err := s.Store.DropCache(ctx, c.ProjectID, c.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return errors.Join(err, s.blobs.Delete(ctx, c.Blob))
}

// Damaged hears that a pack, or with 0 the tree itself, is not what it should be. It is looked at, and forgotten
// when that is so, with every copy that needs it.
func (s *Caches) Damaged(ctx context.Context, attempt record.AttemptID, id record.CacheID, in api.PackDamaged) error {
	_, c, err := s.restorable(ctx, attempt, id)
	if err != nil {
		return err
	}
	if in.Pack == 0 {
		return s.treeDamaged(ctx, c)
	}
	named, err := s.Store.PackOf(ctx, c.ID, in.Pack)
	if err != nil {
		return ground.Known(err, "pack %d of saved copy %d", in.Pack, id)
	}
	// Where one is damaged others may be, and would be found one run after the other.
	packs, err := s.Store.PacksOf(ctx, c.ID)
	if err != nil {
		return err
	}
	lost, err := s.loseBad(ctx, in.Pack, named.Blob)
	if err == nil && !lost {
		err = fmt.Errorf("pack %d is what it should be here, and %w", in.Pack, ground.ErrExists)
	}
	for _, p := range packs {
		if err == nil && p.ID != in.Pack {
			_, err = s.loseBad(ctx, p.ID, p.Blob)
		}
	}
	return err
}

// loseBad looks at a pack, and forgets it when it is not what it should be.
func (s *Caches) loseBad(ctx context.Context, pack tree.PackID, name string) (lost bool, err error) {
	bad := s.look(ctx, name)
	if bad == nil {
		return false, nil
	}
	if !errors.Is(bad, tree.ErrDamaged) && !errors.Is(bad, blob.ErrNotFound) {
		return false, bad // the place cannot be read just now
	}
	s.Log.Warn("a pack of saved folders is damaged, and given up with the copies that need it", "pack", pack, "blob",
		name, "error", bad)
	var blobs []string
	err = s.Store.Tx(ctx, func(q store.Q) (err error) {
		blobs, err = q.LosePack(ctx, pack)
		return err
	})
	if errors.Is(err, store.ErrNotFound) {
		return true, nil // another has found it, too
	}
	for _, name := range blobs {
		err = errors.Join(err, s.blobs.Delete(ctx, name))
	}
	return true, err
}

// treeDamaged looks at the written tree of a copy, and drops that when it is damaged.
func (s *Caches) treeDamaged(ctx context.Context, c store.Cache) error {
	r, err := s.blobs.Open(ctx, c.Blob)
	if errors.Is(err, blob.ErrNotFound) {
		return s.drop(ctx, c)
	}
	if err != nil {
		return err
	}
	defer r.Close()
	text, err := io.ReadAll(io.LimitReader(r, tree.MaxWritten+1))
	if err != nil {
		return err
	}
	if _, digest, err := tree.Decode(text); err != nil || !bytes.Equal(digest[:], c.Digest) {
		return s.drop(ctx, c)
	}
	return fmt.Errorf("the tree of saved copy %d is what it should be here, and %w", c.ID, ground.ErrExists)
}

// look reads a pack and tells what is wrong with it.
func (s *Caches) look(ctx context.Context, name string) error {
	r, err := s.blobs.Open(ctx, name)
	if err != nil {
		return err
	}
	defer r.Close()
	pack, err := io.ReadAll(io.LimitReader(r, tree.MaxPack+1))
	if err != nil {
		return err
	}
	blocks, err := listed(int64(len(pack)), pack)
	if err != nil {
		return err
	}
	u, err := tree.NewUnpacker()
	if err != nil {
		return err
	}
	defer u.Close()
	var raw []byte
	for _, b := range blocks {
		if raw, err = u.Block(pack[b.Start:b.Start+b.Block.Packed], raw); err != nil {
			return err
		}
		if len(raw) != int(b.Raw) {
			return fmt.Errorf("%w: a block is of another length", tree.ErrDamaged)
		}
		from := 0
		for _, p := range b.Pieces {
			if chunk.Sum(raw[from:from+int(p.Len)]) != p.ID {
				return fmt.Errorf("%w: piece %s holds something else", tree.ErrDamaged, p.ID.Short())
			}
			from += int(p.Len)
		}
	}
	return nil
}
