package runner

import (
	"context"
	"errors"
	"io"
	"sort"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/imprint"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/runner/workspace"
)

// cacheState is what has come of one cache so far.
type cacheState struct {
	*definition.Cache
	key imprint.CacheKey
	use api.CacheUse
}

func (j *job) cacheUses() []api.CacheUse {
	uses := []api.CacheUse{}
	for _, c := range j.caches {
		use := c.use
		use.Note = j.attempt.Hide(use.Note)
		uses = append(uses, use)
	}
	return uses
}

// restoreCaches puts back what fits the files each cache follows. A cache is a help and no condition: when one
// cannot be had, the log says why and the job goes on without.
func (j *job) restoreCaches(ctx context.Context) {
	names := make([]string, 0, len(j.attempt.Work.Job.Cache))
	for name := range j.attempt.Work.Job.Cache {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		c := &cacheState{Cache: j.attempt.Work.Job.Cache[name], use: api.CacheUse{Name: name}}
		j.caches = append(j.caches, c)
		followed, _, err := imprint.Files(j.files.FS(), c.Follows)
		if err != nil {
			c.use.Note = err.Error()
			j.say("cache %s: not used: %v", name, err)
			continue
		}
		c.key = imprint.Key(name, c.Paths, platform(), followed)
		c.use.Key = string(c.key)
		began := time.Now()
		var size int64
		err = j.attempt.Insist(ctx, "restoring cache "+name, func() (err error) {
			size, err = j.restore(ctx, c)
			return err
		})
		c.use.TookMs, c.use.Size = time.Since(began).Milliseconds(), size
		switch {
		case errors.Is(err, client.ErrNotFound):
			among := ""
			if j.attempt.Work.CachesApart {
				among = " among runs with the same protected secrets"
			}
			j.say("cache %s: miss%s (%s); it will be saved when the job passes", name, among, c.key.Short())
		case err != nil:
			c.use.Note = err.Error()
			j.say("cache %s: not restored: %v", name, err)
			j.files.Clear(c.Paths)
		default:
			c.use.Hit = true
			j.say("cache %s: hit (%s), %s in %s", name, c.key.Short(), quantity.Bytes(size),
				quantity.Span(time.Since(began)))
		}
	}
}

func (j *job) restore(ctx context.Context, c *cacheState) (size int64, err error) {
	packed, size, err := j.attempt.Post.Cache(ctx, j.attempt.ID(), string(c.key))
	if err != nil {
		return 0, err
	}
	defer packed.Close()
	j.files.Clear(c.Paths)
	return size, j.files.Take(packed, c.Paths)
}

// saveCaches keeps what was missed. It is done after a passed job only, so that half a download is never kept.
func (j *job) saveCaches(ctx context.Context) {
	for _, c := range j.caches {
		if c.key == "" || c.use.Hit {
			continue
		}
		began := time.Now()
		var size int64
		err := j.attempt.Insist(ctx, "saving cache "+c.Name, func() (err error) {
			size, err = j.save(ctx, c)
			return err
		})
		if err != nil {
			c.use.Note = err.Error()
			j.say("cache %s: not saved: %v", c.Name, err)
			continue
		}
		c.use.Saved, c.use.Size, c.use.TookMs = true, size, time.Since(began).Milliseconds()
		j.say("cache %s: saved (%s), %s in %s", c.Name, c.key.Short(), quantity.Bytes(size),
			quantity.Span(time.Since(began)))
	}
}

func (j *job) save(ctx context.Context, c *cacheState) (size int64, err error) {
	counted := &counter{}
	err = j.files.Send(ctx, workspace.Bound{What: "cache", Most: j.limits.Cache}, c.Paths, func(content io.Reader) error {
		return j.attempt.Post.SaveCache(ctx, j.attempt.ID(), c.Name, string(c.key), io.TeeReader(content, counted))
	})
	return counted.n, err
}

type counter struct{ n int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return len(p), nil
}
