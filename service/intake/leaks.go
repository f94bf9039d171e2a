package intake

import (
	"context"
	"crypto/sha256"
	"fmt"
	"sync"

	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/store"
)

// maxLeakBytes is the most that is read of a commit at a time to look for secrets.
const maxLeakBytes = 64 << 20

// clean remembers which files hold no secret, by object id, so that a push costs the reading of what it changes. It is
// this server's own: what is not in it is read again.
type clean struct {
	mu    sync.Mutex
	files map[cleanKey]bool
}

type cleanKey struct {
	project record.ProjectID
	secrets [32]byte // which values were looked for
	object  string
}

// maxClean bounds it; when it is full, it begins anew.
const maxClean = 200_000

func (c *clean) has(k cleanKey) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.files[k]
}

func (c *clean) add(k cleanKey) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.files == nil || len(c.files) >= maxClean {
		c.files = map[cleanKey]bool{}
	}
	c.files[k] = true
}

// leaks finds the files of a commit that hold the value of one of the project's secrets.
func (pl *planner) leaks(ctx context.Context, snap *snapshot) ([]definition.Finding, error) {
	list, err := pl.Store.Secrets(ctx, pl.project.ID, store.Page{})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	which := sha256.New()
	for _, v := range list {
		fmt.Fprintf(which, "%d.%d\n", v.ID, v.Number)
	}
	key := cleanKey{project: pl.project.ID}
	which.Sum(key.secrets[:0])
	var finder *mask.Masker // the secrets are opened only when there is something new to read
	var found []definition.Finding
	budget := int64(maxLeakBytes)
	for _, e := range snap.tree.Entries {
		key.object = snap.objects[e.Path]
		if e.Submodule || pl.clean.has(key) {
			continue
		}
		text, err := snap.read(e.Path, check.MaxLeakFile)
		if err != nil {
			return nil, err
		}
		if budget -= int64(len(text)); budget < 0 {
			break // the next push goes on from here
		}
		if finder == nil {
			if finder, err = pl.secrets.Finder(list); err != nil {
				return nil, err
			}
		}
		if f, leaks := check.Leaks(finder, pl.project.Name, e.Path, text); leaks {
			found = append(found, f)
		} else {
			pl.clean.add(key)
		}
	}
	return found, nil
}
