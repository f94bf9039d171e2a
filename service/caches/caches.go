// Package caches keeps what runs restore instead of making it again: trees, whose files are pieces that are stored
// once for all who may know of them. What a proposal from outside has made, nobody but that proposal restores; what
// a secret may have opened, no run from outside does; runs that are given protected secrets have copies of their
// own. Nobody is told of a piece who could not restore a copy that it is in.
//
// A copy is a help and no condition. What is damaged is forgotten when that is found, and made anew.
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
	"slices"
	"sync"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/chunk"
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

// drop forgets a copy.
func (s *Caches) drop(ctx context.Context, c store.Cache) error {
	s.Log.Warn("a saved copy of a cache is damaged, and dropped", "cache", c.ID, "name", c.Name)
	err := s.Store.DropCache(ctx, c.ProjectID, c.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return errors.Join(err, s.blobs.Delete(ctx, c.Blob))
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
	name, err := s.Store.PackOf(ctx, c.ID, pack)
	if err != nil {
		return nil, ground.Known(err, "pack %d of saved copy %d", pack, c.ID)
	}
	r, err := s.blobs.Range(ctx, name, start, n)
	if errors.Is(err, blob.ErrNotFound) {
		return nil, fmt.Errorf("pack %d: its file is gone: %w", pack, ground.ErrNotFound)
	}
	return r, err
}

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
	name, err := s.Store.PackOf(ctx, c.ID, in.Pack)
	if err != nil {
		return ground.Known(err, "pack %d of saved copy %d", in.Pack, id)
	}
	// Where one is damaged others may be, and would be found one run after the other.
	packs, err := s.Store.PacksOf(ctx, c.ID)
	if err != nil {
		return err
	}
	lost, err := s.loseBad(ctx, in.Pack, name)
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
