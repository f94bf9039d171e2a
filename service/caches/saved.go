package caches

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"sync"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Known tells where pieces are that runs like that of the attempt have stored.
func (s *Caches) Known(ctx context.Context, attempt record.AttemptID, ids []chunk.ID) ([]tree.Place, error) {
	run, err := s.running(ctx, attempt)
	if err != nil {
		return nil, err
	}
	return s.Store.Places(ctx, spaceOf(run), ids)
}

// maxList bounds the list at a pack's end, in bytes.
const maxList = 1 << 20

// desk is the memory that storing a pack needs. It is lent: what is fresh costs more than what is done in it.
type desk struct {
	room []byte
	end  tail
}

var desks = sync.Pool{New: func() any { return &desk{make([]byte, 256<<10), tail{most: maxList + tree.TailLen}} }}

// AddPack stores a pack.
func (s *Caches) AddPack(ctx context.Context, attempt record.AttemptID, r io.Reader) (tree.PackID, error) {
	run, err := s.running(ctx, attempt)
	if err != nil {
		return 0, err
	}
	if run.Outside && run.Proposal == "" {
		return 0, fmt.Errorf("it is of no proposal that could restore it: %w", ground.ErrForbidden)
	}
	name := fmt.Sprintf("packs/%d/%s", run.ProjectID, rand.Text())
	size := int64(0)
	lent := desks.Get().(*desk)
	defer desks.Put(lent)
	end := &lent.end
	end.text = end.text[:0]
	err = s.blobs.Write(ctx, name, func(w io.Writer) (err error) {
		size, err = io.CopyBuffer(io.MultiWriter(w, end), io.LimitReader(r, tree.MaxPack+1), lent.room)
		return err
	})
	if err != nil {
		return 0, err
	}
	id, err := s.notePack(ctx, run, name, size, end.last())
	if err != nil {
		_ = s.blobs.Delete(ctx, name)
	}
	return id, err
}

func (s *Caches) notePack(ctx context.Context, run store.Run, name string, size int64, end []byte) (id tree.PackID,
	err error) {
	blocks, err := listed(size, end)
	if err != nil {
		return 0, fmt.Errorf("the pack is %w: %w", ground.ErrInvalid, err)
	}
	err = s.Store.Tx(ctx, func(q store.Q) (err error) {
		id, err = q.AddPack(ctx, spaceOf(run), name, size, blocks)
		return err
	})
	return id, err
}

// listed reads the list of a pack of so many bytes from its end.
func listed(size int64, end []byte) ([]tree.Packed, error) {
	if size > tree.MaxPack || len(end) < tree.TailLen {
		return nil, tree.ErrDamaged
	}
	rest, last := end[:len(end)-tree.TailLen], end[len(end)-tree.TailLen:]
	n, err := tree.ListLen(last)
	if err != nil {
		return nil, err
	}
	if n > int64(len(rest)) {
		return nil, fmt.Errorf("%w: its list is too long", tree.ErrDamaged)
	}
	return tree.Listed(rest[int64(len(rest))-n:], size-int64(tree.TailLen)-n)
}

// tail keeps the last bytes of what is written to it.
type tail struct {
	most int
	text []byte
}

func (t *tail) Write(p []byte) (int, error) {
	t.text = append(t.text, p...)
	if len(t.text) > 4*t.most {
		t.text = t.text[:copy(t.text, t.last())]
	}
	return len(p), nil
}

func (t *tail) last() []byte { return t.text[max(0, len(t.text)-t.most):] }

var (
	sum  = regexp.MustCompile(`^[0-9a-f]{64}$`)
	name = regexp.MustCompile(`^[^\x00-\x1f]{1,250}$`)
)

// Save keeps a tree as the copy of a cache. All its packs are those of runs like the attempt's, or of the copy it was
// made from.
func (s *Caches) Save(ctx context.Context, attempt record.AttemptID, in api.CacheSaved, written io.Reader) (
	found api.CacheFound, err error) {
	if !sum.MatchString(in.Key) || !sum.MatchString(in.Shape) || !name.MatchString(in.Name) || in.Stored < 0 {
		return found, fmt.Errorf("key, shape or name of the tree is %w", ground.ErrInvalid)
	}
	run, err := s.running(ctx, attempt)
	if err != nil {
		return found, err
	}
	if run.Outside && run.Proposal == "" {
		return found, fmt.Errorf("it is of no proposal that could restore it: %w", ground.ErrForbidden)
	}
	if in.Same {
		return s.saveSame(ctx, attempt, in)
	}
	text, err := io.ReadAll(io.LimitReader(written, tree.MaxWritten+1))
	if err != nil {
		return found, err
	}
	t, digest, err := tree.Decode(text)
	if err != nil {
		return found, fmt.Errorf("the tree is %w: %w", ground.ErrInvalid, err)
	}
	if run, err = s.packsAreIts(ctx, attempt, run, in.Older, t.Packs()); err != nil {
		return found, err
	}
	files, size := t.Files()
	c := store.Cache{Digest: digest[:], Size: size, Files: int64(files), Written: int64(len(text)), Stored: in.Stored}
	return s.keep(ctx, run, in, c, t.Packs(), bytes.NewReader(text))
}

// saveSame keeps what an attempt has restored, and found to be what it wants, by its name, too.
func (s *Caches) saveSame(ctx context.Context, attempt record.AttemptID, in api.CacheSaved) (found api.CacheFound,
	err error) {
	run, older, err := s.restorable(ctx, attempt, in.Older)
	if err != nil {
		return found, err
	}
	if older.Shape != in.Shape {
		return found, fmt.Errorf("saved copy %d is of other paths, and so no such copy: %w", in.Older, ground.ErrInvalid)
	}
	stored, err := s.Store.PacksOf(ctx, older.ID)
	if err != nil {
		return found, err
	}
	packs := make([]tree.PackID, len(stored))
	for i, p := range stored {
		packs[i] = p.ID
	}
	written, err := s.tree(ctx, older)
	if err != nil {
		return found, err
	}
	defer written.Close()
	c := store.Cache{Digest: older.Digest, Size: older.Size, Files: older.Files, Written: older.Written}
	return s.keep(ctx, run, in, c, packs, written)
}

// keep keeps a tree as a copy.
func (s *Caches) keep(ctx context.Context, run store.Run, in api.CacheSaved, c store.Cache, packs []tree.PackID,
	written io.Reader) (found api.CacheFound, err error) {
	c.ProjectID, c.Name, c.Shape, c.Key, c.Job = run.ProjectID, in.Name, in.Shape, in.Key, in.Job
	c.Guard, c.Gated, c.Proposal, c.Line, c.Run = run.Guard, run.Gated, proposalOf(run), lineOf(run), run.Number
	c.Blob = fmt.Sprintf("trees/%d/%s", run.ProjectID, rand.Text())
	c.Followed.V = maps.Clone(in.Followed)
	if _, err := s.blobs.Put(ctx, c.Blob, written); err != nil {
		return found, err
	}
	err = s.Store.Tx(ctx, func(q store.Q) error {
		if run.Anew == store.Fresh { // what was there before is what it does not trust
			if err := q.DropSame(ctx, c); err != nil {
				return err
			}
		}
		return q.AddCache(ctx, c, packs)
	})
	if err != nil {
		_ = s.blobs.Delete(ctx, c.Blob)
	}
	switch {
	case errors.Is(err, store.ErrExists):
		err = nil // another run was first; its copy is as good
	case errors.Is(err, store.ErrNotFound):
		err = fmt.Errorf("a pack that it needs is given up meanwhile: %w", ground.ErrNotFound)
	}
	return api.CacheFound{Exact: true, Tree: hex.EncodeToString(c.Digest), Size: c.Size, Files: c.Files,
		Run: run.Number, Line: c.Line, Differs: []string{}}, err
}

// packsAreIts refuses packs that an attempt may not know of.
func (s *Caches) packsAreIts(ctx context.Context, attempt record.AttemptID, run store.Run, older record.CacheID,
	packs []tree.PackID) (store.Run, error) {
	if older != 0 {
		var err error
		if run, _, err = s.restorable(ctx, attempt, older); errors.Is(err, ground.ErrNotFound) {
			older = 0 // given up meanwhile; its packs may be there for another
		} else if err != nil {
			return run, err
		}
	}
	n, err := s.Store.PacksIn(ctx, spaceOf(run), older, packs)
	if err == nil && n != len(packs) {
		err = fmt.Errorf("%d of the %d packs that it needs are not there: %w", len(packs)-n, len(packs), ground.ErrNotFound)
	}
	return run, err
}
