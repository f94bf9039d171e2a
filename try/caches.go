package try

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/imprint"
	"gentlepiston.example/piston/core/record"
)

// Trials store no pieces: what they save is on this machine as it is, and here only stands which copy is of what. What
// runs have saved they may read, where somebody is signed in who may start such runs.

// Shared is what runs of a project have saved.
type Shared struct {
	Client  *client.Client
	Project string
}

// askFor bounds what a trial waits for a service to say what it has.
const askFor = 4 * time.Second

// maxCopies is how many saved copies are known for a tree.
const maxCopies = 50

// saved is a copy that a trial has saved.
type saved struct {
	api.CacheWanted
	Line string    `json:"line"` // the branch
	Tree string    `json:"tree"` // by which the machine knows it
	When time.Time `json:"when"`
}

func (d *desk) savedFile() string { return filepath.Join(d.folder, "copies.json") }

// copies lists what was saved, the newest first. A list that cannot be read is as good as none.
func (d *desk) copies() (list []saved, err error) {
	text, err := os.ReadFile(d.savedFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(text, &list); err != nil {
		return nil, nil
	}
	return list, nil
}

// FindCache finds the copy that fits, here or at the service, else the nearest here, else the nearest there.
func (d *desk) FindCache(ctx context.Context, _ record.AttemptID, in api.CacheWanted) (api.CacheFound, error) {
	here, err := d.findHere(in)
	if d.shared == nil || err == nil && here.Exact || err != nil && !errors.Is(err, client.ErrNotFound) {
		return here, err
	}
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	there, askErr := d.shared.Client.FindCacheFor(ctx, d.shared.Project, d.branch, in)
	switch {
	case askErr == nil && (there.Exact || err != nil):
		return there, nil
	case err == nil || errors.Is(askErr, client.ErrRefused): // there is none, or it is not for whoever tries this
		return here, err
	}
	return here, fmt.Errorf("the service does not say what it has: %w", askErr)
}

// findHere finds the copy that fits, else the newest of the same branch, else the newest.
func (d *desk) findHere(in api.CacheWanted) (api.CacheFound, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	list, err := d.copies()
	if err != nil {
		return api.CacheFound{}, err
	}
	list = slices.DeleteFunc(list, func(s saved) bool { return s.Key != in.Key && (in.Exact || s.Shape != in.Shape) })
	if len(list) == 0 {
		return api.CacheFound{}, fmt.Errorf("no saved copy: %w", client.ErrNotFound)
	}
	best := slices.MaxFunc(list, func(a, b saved) int { return d.nearness(a, in) - d.nearness(b, in) })
	return api.CacheFound{Exact: best.Key == in.Key, Tree: best.Tree, Line: best.Line,
		Differs: imprint.Differs(best.Followed, in.Followed)}, nil
}

// nearness is greater for a copy that fits better.
func (d *desk) nearness(s saved, in api.CacheWanted) int {
	switch {
	case s.Key == in.Key:
		return 2
	case s.Line == d.branch:
		return 1
	}
	return 0
}

// SaveTree notes a copy that is on this machine.
func (d *desk) SaveTree(_ context.Context, _ record.AttemptID, in api.CacheSaved, _ []byte) (api.CacheFound, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	list, err := d.copies()
	if err != nil {
		return api.CacheFound{}, err
	}
	// Other work trees on this machine have copies of their own: what is in them is their own business.
	sum := sha256.Sum256([]byte(strings.Join([]string{d.folder, in.Key, time.Now().String()}, "\x00")))
	s := saved{CacheWanted: in.CacheWanted, Line: d.branch, Tree: hex.EncodeToString(sum[:]), When: time.Now()}
	list = append([]saved{s}, slices.DeleteFunc(list, func(o saved) bool { return o.Key == in.Key })...)
	text, err := json.Marshal(list[:min(len(list), maxCopies)])
	if err != nil {
		return api.CacheFound{}, err
	}
	return api.CacheFound{Exact: true, Tree: s.Tree}, d.put("copies.json", strings.NewReader(string(text)))
}
