package runner

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/runner/process"
	"gentlepiston.example/piston/runner/tier"
	"gentlepiston.example/piston/runner/trees"
	"gentlepiston.example/piston/runner/workspace"
)

// saving is a tree that is kept for later runs.
type saving struct {
	*cacheState
	older   *tree.Tree // what was restored; nil for nothing
	root    *os.Root   // what is looked at
	found   []trees.Found
	odd     []string // what is there and not saved
	changes bool     // that is what differs from the older tree, and not all there is
	tree    *tree.Tree
	written []byte
	same    bool // it is what was restored
}

// saveCaches keeps what fits nothing that was kept. It is done after a passed job only, so that half a download is
// never kept.
func (j *job) saveCaches(ctx context.Context) {
	var saved []*saving
	for _, c := range j.caches {
		if c.wanted.Key == "" || c.use.Hit {
			continue
		}
		began := time.Now()
		s := &saving{cacheState: c}
		if err := j.save(ctx, s); err != nil {
			c.use.Note = err.Error()
			j.say("cache %s: not saved: %v", c.Name, err)
			continue
		}
		saved = append(saved, s)
		c.use.Saved, c.use.TookMs = true, time.Since(began).Milliseconds()
		files, size := int(c.found.Files), c.found.Size
		if !s.same {
			files, size = s.tree.Files()
		}
		c.use.Size = size
		added := ""
		if j.attempt.Service != nil {
			added = fmt.Sprintf(", of which %s are new", quantity.Bytes(c.use.Stored))
		}
		j.say("cache %s: saved (%s), %s in %d files%s, in %s", c.Name, c.wanted.Key[:12], quantity.Bytes(size), files, added,
			quantity.Span(time.Since(began)))
	}
	if err := j.keepHere(ctx, saved); err != nil {
		j.attempt.Log.Warn("saved folders are not kept on this machine, and will be fetched", "error", err)
	}
}

// save stores what the service does not have yet of a cache's folders, and has it keep their tree.
func (j *job) save(ctx context.Context, s *saving) (err error) {
	if s.same, err = j.isSame(ctx, s); err != nil {
		return err
	}
	if s.same {
		about := api.CacheSaved{CacheWanted: s.wanted, Job: j.attempt.Work.Job.Name, Older: s.cacheState.found.ID, Same: true}
		err = j.keepTree(ctx, s, about)
		if err == nil || !errors.Is(err, client.ErrNotFound) {
			return err
		}
		s.same = false // what it is the same as is given up meanwhile
	}
	if j.attempt.Service != nil {
		if s.older, err = s.before(); err != nil {
			return err
		}
	}
	if err := j.look(ctx, s); err != nil {
		return err
	}
	defer func() {
		if s.changes {
			s.root.Close()
		}
	}()
	about := api.CacheSaved{CacheWanted: s.wanted, Job: j.attempt.Work.Job.Name}
	if j.attempt.Service != nil {
		err = j.attempt.Insist(ctx, "saving cache "+s.Name, func() error { return j.store(ctx, s, &about) })
	} else {
		s.tree = trees.Tree(s.roots(), s.found)
	}
	if err != nil {
		return err
	}
	return j.keepTree(ctx, s, about)
}

// keepTree has the service keep the tree.
func (j *job) keepTree(ctx context.Context, s *saving, about api.CacheSaved) error {
	return j.attempt.Insist(ctx, "saving cache "+s.Name, func() (err error) {
		s.cacheState.found, err = j.attempt.Post.SaveTree(ctx, j.attempt.ID(), about, s.written)
		return err
	})
}

// isSame tells that nothing was done to what was restored, so that nothing of it need be read.
func (j *job) isSame(ctx context.Context, s *saving) (bool, error) {
	if !s.laid || j.attempt.Service == nil {
		return false, nil
	}
	root, err := j.files.Below.OpenUpper()
	if err != nil {
		return false, err
	}
	defer root.Close()
	scanned, err := trees.ScanLayer(ctx, root, s.roots())
	return !scanned.Above && len(scanned.Found) == 0 && len(scanned.Odd) == 0, err
}

// nothingThere says that none of a cache's paths is there.
type nothingThere struct{}

func (nothingThere) Error() string { return "none of its paths is there" }

// look lists what is to be saved: of what lies below the workspace only what was changed.
func (j *job) look(ctx context.Context, s *saving) (err error) {
	if s.laid && s.older != nil {
		if s.root, err = j.files.Below.OpenUpper(); err != nil {
			return err
		}
		scanned, err := trees.ScanLayer(ctx, s.root, s.roots())
		if err == nil && !scanned.Above {
			s.changes, s.found, s.odd = true, scanned.Found, scanned.Odd
			return nil
		}
		s.root.Close()
		if err != nil {
			return err
		}
	}
	s.root = j.files.Root()
	scanned, err := trees.ScanOdd(ctx, s.root, s.roots())
	if err != nil {
		return err
	}
	if s.found, s.odd = scanned.Found, scanned.Odd; len(s.found) == 0 {
		return nothingThere{}
	}
	if s.older != nil {
		trees.Same(s.found, s.older, s.since)
	}
	return nil
}

// fits refuses what is larger than the job's caches may be.
func (s *saving) fits(most int64) error {
	total := int64(0)
	if s.changes {
		_, total = tree.Merge(s.older, trees.Changes(s.found)).Files() // without those that are not read yet
	}
	largest, size := s.Name, int64(0)
	for i := range s.found {
		f := &s.found[i]
		if f.Kind != tree.File {
			continue
		}
		if f.Pieces == nil || !s.changes {
			total += f.Size
		}
		if f.Size > size {
			largest, size = f.Path, f.Size
		}
	}
	return workspace.Bound{What: "cache", Most: most}.Fits(s.Name, total, largest, size)
}

// store stores the pieces of a cache's files that are not stored yet, and makes its tree.
func (j *job) store(ctx context.Context, s *saving, about *api.CacheSaved) error {
	if err := s.fits(j.limits.Cache); err != nil {
		return err
	}
	saver := &trees.Saver{Root: s.root, To: pieces{j}, Look: j.files.Hiding.InFiles(), Told: j.progress("saving", s.Name)}
	if s.older != nil {
		saver.Older, about.Older = trees.Older(s.older), s.cacheState.found.ID
	}
	stored, err := saver.Store(ctx, s.found)
	if err != nil {
		for i := range s.found {
			s.found[i].Pieces = nil // it may be tried again
		}
		if s.older != nil && !s.changes {
			trees.Same(s.found, s.older, s.since)
		}
		return err
	}
	about.Stored, s.use.Stored = stored, stored
	if s.changes {
		s.tree = tree.Merge(s.older, trees.Changes(s.found))
	} else {
		s.tree = trees.Tree(s.roots(), s.found)
	}
	s.written, _ = s.tree.Encode()
	return nil
}

// progressEvery is how often it is said how far long work is.
const progressEvery = 5 * time.Second

// progress says now and then how far the work on a cache is.
func (j *job) progress(doing, name string) func(done, all int64) {
	last := time.Now()
	return func(done, all int64) {
		if time.Since(last) > progressEvery {
			last = time.Now()
			j.say("cache %s: %s, %s of %s", name, doing, quantity.Bytes(done), quantity.Bytes(all))
		}
	}
}

// pieces is the service, as where the pieces of a job are stored.
type pieces struct{ *job }

// Known implements trees.Pieces.
func (p pieces) Known(ctx context.Context, ids []chunk.ID) ([]tree.Place, error) {
	return p.Client.Known(ctx, p.attempt.ID(), ids)
}

// AddPack implements trees.Pieces.
func (p pieces) AddPack(ctx context.Context, pack []byte) (tree.PackID, error) {
	return p.Client.AddPack(ctx, p.attempt.ID(), pack)
}

// keepHere keeps on this machine what was saved, so that the next job need not fetch it. The workspace is about to be
// removed: its files are moved, not copied, unless it stays.
func (j *job) keepHere(ctx context.Context, saved []*saving) (trouble error) {
	if len(saved) == 0 {
		return nil
	}
	if err := j.files.Below.Lift(); err != nil {
		return err
	}
	for _, s := range saved {
		trouble = errors.Join(trouble, j.keepOneHere(ctx, s))
	}
	return trouble
}

func (j *job) keepOneHere(ctx context.Context, s *saving) error {
	if s.same {
		return nil // the machine has it
	}
	digest := s.cacheState.found.Tree
	if t := j.tier.Find(digest); t != nil { // it has it: nothing was changed, or another job was first
		t.LetGo()
		return nil
	}
	var layers []tier.Layer
	if s.changes {
		layers = s.cacheState.tree.Layers
	}
	if s.laid && !s.changes || len(layers) >= tier.MostLayers || s.changes && len(s.odd) > 0 {
		return nil // what is above it says nothing without it; it will be fetched as one
	}
	making, err := j.tier.Make()
	if err != nil {
		return err
	}
	defer j.tier.Drop(making)
	if j.stays {
		b := &trees.Builder{Tree: s.tree, Into: making.Dir, As: j.files.Account()}
		err = b.Copy(ctx, j.files.Root(), s.found)
	} else {
		for _, name := range s.odd { // or it would be there next time, and not for a runner that fetches
			err = errors.Join(err, j.files.Root().Remove(name))
		}
		err = errors.Join(err, j.move(s.roots(), making.Dir))
	}
	if err != nil {
		return err
	}
	size := int64(0)
	for i := range s.found {
		size += s.found[i].Size
	}
	layer := making.Layer(j.files.Account().ID(), size)
	t, err := j.tier.Keep(digest, append([]tier.Layer{layer}, layers...), s.written)
	if err == nil {
		t.LetGo()
	}
	return err
}

// move moves what is at some paths of the workspace, if anything is, to the same paths below a folder.
func (j *job) move(roots []string, into string) error {
	var ours []string
	for _, root := range roots {
		if j.files.LeadTo(path.Dir(root)) == nil { // else a link in the way leads elsewhere, and nothing of it was saved
			ours = append(ours, root)
		}
	}
	return moveTo(into, j.files.Source(), ours, j.files.Account())
}

// moveTo moves what is at some paths below a folder, if anything is, to the same paths below another, as an
// account's.
func moveTo(into, from string, roots []string, as *process.Account) error {
	for _, root := range roots {
		at, to := filepath.Join(from, root), filepath.Join(into, root)
		if _, err := os.Lstat(at); err != nil {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		for dir := path.Dir(root); dir != "."; dir = path.Dir(dir) {
			if err := as.Take(filepath.Join(into, dir)); err != nil {
				return err
			}
		}
		if err := os.Rename(at, to); err != nil {
			return err
		}
	}
	return nil
}
