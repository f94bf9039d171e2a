package runner

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/runner/mount"
	"gentlepiston.example/piston/runner/tier"
	"gentlepiston.example/piston/runner/trees"
)

// findTimes is how often a copy is looked for: those that turn out to be damaged are given up.
const findTimes = 4

// find finds the copy that fits, or the nearest, and has it on this machine.
func (j *job) find(ctx context.Context, c *cacheState) error {
	for n := 1; ; n++ {
		var found api.CacheFound
		err := j.attempt.Insist(ctx, "looking for cache "+c.Name, func() (err error) {
			found, err = j.attempt.Post.FindCache(ctx, j.attempt.ID(), c.wanted)
			return err
		})
		if err != nil {
			return err
		}
		c.found, c.use.Here = found, true
		if c.wanted.Step && !found.Exact {
			return nil // it is only compared with
		}
		if c.tree = j.here(found.Tree); c.tree != nil {
			return nil
		}
		if j.shelf == nil || found.ID == 0 {
			return fmt.Errorf("it is not on this machine any more: %w", client.ErrNotFound)
		}
		c.use.Here = false
		err = j.attempt.Insist(ctx, "restoring cache "+c.Name, func() (err error) {
			c.tree, err = j.fetch(ctx, c)
			return err
		})
		var damaged *trees.Damaged
		if err == nil || n == findTimes || !errors.As(err, &damaged) && !errors.Is(err, client.ErrNotFound) {
			return err
		}
		c.use.Note = err.Error()
		j.say("cache %s: the copy of run %d is given up: %v", c.Name, found.Run, err)
	}
}

// fetch brings a tree from the service to this machine.
func (j *job) fetch(ctx context.Context, c *cacheState) (*tier.Tree, error) {
	written, err := j.shelf.Tree(ctx, c.found.ID)
	if err != nil {
		return nil, err
	}
	t, digest, err := tree.Decode(written)
	if err == nil && digest.String() != c.found.Tree {
		err = fmt.Errorf("%w: it is another than the service says", tree.ErrDamaged)
	}
	if err != nil {
		return nil, j.reportDamaged(ctx, c, &trees.Damaged{Err: err})
	}
	making, err := j.tier.Make()
	if err != nil {
		return nil, err
	}
	defer j.tier.Drop(making)
	b := &trees.Builder{Tree: t, Into: making.Dir, As: j.files.Account(), Told: j.progress("fetching", c.Name)}
	err = b.Build(ctx, func(ctx context.Context, pack tree.PackID, start, n int64, room []byte) (
		[]byte, error) {
		part, err := j.shelf.PackPart(ctx, c.found.ID, pack, start, n, room)
		switch {
		case errors.Is(err, client.ErrNotFound):
			err = &trees.Damaged{Pack: pack, Err: err}
		case err == nil && int64(len(part)) != n:
			err = &trees.Damaged{Pack: pack, Err: errors.New("it is too short")}
		}
		return part, err
	})
	var damaged *trees.Damaged
	if errors.As(err, &damaged) {
		err = j.reportDamaged(ctx, c, damaged)
	}
	if err != nil {
		return nil, err
	}
	_, size := t.Files()
	return j.tier.Keep(c.found.Tree, []tier.Layer{making.Layer(j.files.Account().ID(), size)}, written)
}

// reportDamaged tells the service what is damaged, so that it is given up, and gives that back as an error.
func (j *job) reportDamaged(ctx context.Context, c *cacheState, d *trees.Damaged) error {
	if j.attempt.Service == nil {
		return d // a trial reads, and the next run finds it
	}
	err := j.Client.ReportDamaged(ctx, j.attempt.ID(), c.found.ID,
		api.PackDamaged{Pack: d.Pack, Why: j.attempt.Reason(d.Err.Error())})
	if err != nil && !errors.Is(err, client.ErrNotFound) {
		return fmt.Errorf("%v; and to report that failed: %w", d, err) // so it is not looked for again
	}
	return d
}

// lays tells whether trees can lie below the job's workspace. One that outlives this process keeps its files.
func (j *job) lays() bool { return mount.Apart() && !j.stays }

// here gives a tree that is on this machine, in a form that the job can use; nil when there is none.
func (j *job) here(digest string) *tier.Tree {
	t := j.tier.Find(digest)
	if t != nil && len(t.Layers) > 1 && !j.lays() {
		t.LetGo()
		_ = t.Forget() // it is fetched as one
		return nil
	}
	return t
}

// put puts what was found into the workspace: below it where that can be, else as copies.
func (j *job) put(ctx context.Context) {
	began := time.Now()
	var lay []*cacheState
	var layers []mount.Layer
	var roots []string
	for _, c := range j.caches {
		if c.tree == nil {
			continue
		}
		j.files.Clear(c.Paths)
		if !j.lays() || slices.ContainsFunc(c.roots(), func(r string) bool { return overlaps(roots, r) }) {
			j.told(c, j.copyIn(ctx, c), "copied", time.Since(began))
			continue
		}
		roots = append(roots, c.roots()...)
		lay = append(lay, c)
		for _, l := range c.tree.Layers {
			layers = append(layers, mount.Layer{Dir: c.tree.Dir(l), Owner: l.Owner})
		}
	}
	if len(lay) == 0 {
		return
	}
	err := j.files.Below.Lay(layers)
	took := time.Since(began)
	if err != nil {
		j.Log.Warn("saved folders cannot be mounted here, and are copied", "error", err)
	}
	for _, c := range lay {
		if c.laid = err == nil; c.laid {
			j.told(c, nil, "mounted", took)
		} else {
			began := time.Now()
			j.told(c, j.copyIn(ctx, c), "copied", time.Since(began))
		}
	}
}

// clockTick is by how much what the system says of when a file was changed may be behind (CONFIG_HZ; at least 100).
const clockTick = 20 * time.Millisecond

// told notes that a tree was put into the workspace, and says so.
func (j *job) told(c *cacheState, err error, how string, took time.Duration) {
	if err != nil {
		c.use.Note = err.Error()
		j.say("cache %s: not restored: %v", c.Name, err)
		j.files.Clear(c.Paths)
		c.tree.LetGo()
		c.tree = nil
		return
	}
	c.since = time.Now().Add(-clockTick).UnixNano()
	f, whose := c.found, ""
	c.use.Hit, c.use.Nearest, c.use.Run, c.use.Line, c.use.Size = f.Exact, !f.Exact, f.Run, f.Line, f.Size
	if f.Run != 0 {
		whose = fmt.Sprintf(" of run %d", f.Run)
	}
	if f.Line != "" {
		whose += " on " + f.Line
	}
	from := "from this machine"
	if !c.use.Here {
		from = "fetched in " + quantity.Span(time.Duration(c.use.TookMs)*time.Millisecond)
	}
	c.use.TookMs += took.Milliseconds()
	short := c.wanted.Key[:12]
	what := fmt.Sprintf("the copy%s, %s in %d files, %s, %s in %s", whose, quantity.Bytes(f.Size), f.Files, from, how,
		quantity.Span(took))
	if f.Exact {
		j.say("cache %s: hit (%s): %s", c.Name, short, what)
		return
	}
	c.use.Differs = f.Differs[:min(len(f.Differs), differsTold)]
	j.say("cache %s: miss (%s), since %s; the nearest is %s", c.Name, short, differ(f.Differs), what)
}

// differsTold is how many files that differ are told of.
const differsTold = 100

// differ says which files differ.
func differ(names []string) string {
	switch n := len(names); n {
	case 0:
		return "it follows other files"
	case 1:
		return names[0] + " differs"
	case 2:
		return names[0] + " and " + names[1] + " differ"
	default:
		return fmt.Sprintf("%s and %d other files differ", names[0], n-1)
	}
}

// overlaps tells that a root is in one of others, or one of them in it.
func overlaps(others []string, root string) bool {
	return slices.ContainsFunc(others, func(o string) bool { return tree.Below(o, root) || tree.Below(root, o) })
}

// copyIn copies a tree of one layer into the workspace.
func (j *job) copyIn(ctx context.Context, c *cacheState) error {
	if len(c.tree.Layers) != 1 {
		return errors.New("it is in several layers here")
	}
	from, err := os.OpenRoot(c.tree.Dir(c.tree.Layers[0]))
	if err != nil {
		return err
	}
	defer from.Close()
	found, err := trees.Scan(ctx, from, c.roots())
	if err != nil {
		return err
	}
	for _, f := range found {
		if slices.Contains(c.roots(), f.Path) {
			if err := j.files.LeadTo(path.Dir(f.Path)); err != nil {
				return err
			}
		}
	}
	b := &trees.Builder{Tree: trees.Tree(c.roots(), found), Into: j.files.Source(), As: j.files.Account()}
	return b.Copy(ctx, from, found)
}
