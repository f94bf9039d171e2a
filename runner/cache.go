package runner

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/imprint"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/runner/tier"
	"gentlepiston.example/piston/runner/trees"
)

// cacheState is what has come of one cache so far.
type cacheState struct {
	*definition.Cache
	wanted api.CacheWanted
	use    api.CacheUse

	found api.CacheFound // what is restored
	tree  *tier.Tree     // the same, as it is on this machine; nil when nothing is restored
	laid  bool           // it lies below the workspace
	since int64          // when it was there, in nanoseconds since 1970

	decoded *tree.Tree // what before has read
}

// before is the tree that was restored; nil when none was.
func (c *cacheState) before() (*tree.Tree, error) {
	if c.tree == nil || c.decoded != nil {
		return c.decoded, nil
	}
	written, err := c.tree.Written()
	if err == nil {
		c.decoded, _, err = tree.Decode(written)
	}
	if err != nil {
		return nil, fmt.Errorf("what was restored: %w", err)
	}
	return c.decoded, nil
}

func (c *cacheState) roots() []string { return trees.Roots(c.Paths) }

func (j *job) cacheUses() []api.CacheUse {
	uses := []api.CacheUse{}
	for _, c := range j.caches {
		use := c.use
		use.Note = j.attempt.Hide(use.Note)
		uses = append(uses, use)
	}
	return uses
}

// restoreCaches puts back what fits the files each cache follows, else what is nearest to that. A cache is a help
// and no condition: when one cannot be had, the log says why and the job goes on without.
func (j *job) restoreCaches(ctx context.Context) {
	for _, name := range slices.Sorted(maps.Keys(j.attempt.Work.Job.Cache)) {
		c := &cacheState{Cache: j.attempt.Work.Job.Cache[name], use: api.CacheUse{Name: name}}
		j.caches = append(j.caches, c)
		if slices.ContainsFunc(c.roots(), tree.OfGit) {
			c.use.Note = "what is in .git is the checkout's own"
			j.say("cache %s: not used: %s", name, c.use.Note)
			continue
		}
		followed, sums, err := imprint.Files(j.files.FS(), c.Follows)
		if err != nil {
			c.use.Note = err.Error()
			j.say("cache %s: not used: %v", name, err)
			continue
		}
		shape := imprint.Shape(name, c.Paths, platform())
		key := imprint.Key(shape, followed)
		c.wanted = api.CacheWanted{Name: name, Key: string(key), Shape: shape, Followed: sums, Exact: c.Exact}
		c.use.Key = string(key)
		if j.attempt.Work.Fresh {
			j.say("cache %s: not restored, since the run does all anew (%s)", name, key.Short())
			continue
		}
		began := time.Now()
		err = j.find(ctx, c)
		c.use.TookMs = time.Since(began).Milliseconds()
		switch {
		case errors.Is(err, client.ErrNotFound):
			j.say("cache %s: miss (%s): no copy is kept of %s on %s%s; it will be saved when the job passes", name,
				key.Short(), strings.Join(c.Paths, ", "), platform(), j.among())
		case err != nil:
			c.use.Note = err.Error()
			j.say("cache %s: not restored: %v", name, err)
		}
	}
	j.put(ctx)
}

// among says whose copies were looked at, when not all.
func (j *job) among() string {
	if j.attempt.Work.CachesApart {
		return " by runs with the same protected secrets"
	}
	return ""
}

// letGo lets go of the trees that were restored.
func (j *job) letGo() {
	for _, c := range j.caches {
		if c.tree != nil {
			c.tree.LetGo()
			c.tree = nil
		}
	}
	if j.mirror == nil {
		return
	}
	if err := j.mirror.GiveBack(); err != nil {
		j.Log.Warn("a mirror that is not needed could not be removed", "error", err)
	}
}
