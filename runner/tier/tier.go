// Package tier is what a runner has on its own disk of saved folders, so that they need not be fetched again: trees in
// layers, as overlays have them. Each is there whole or not at all; what is used is not removed; of the others those
// longest not used go first when they take more room than they may.
//
// Which tree a job may have is never decided here: the service names it, by the digest of its content.
package tier

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"gentlepiston.example/piston/disk"
)

// Tier is the trees in a folder. One process has it at a time.
type Tier struct {
	dir  string
	most int64 // bytes
	mu   sync.Mutex
	uses map[string]int // of layers, by jobs
}

// MostLayers is how many layers a tree may be in. One in more is not kept, and is in one when it is fetched next.
const MostLayers = 8

// Layer is a part of a tree.
type Layer struct {
	Name  string `json:"name"`
	Owner int    `json:"owner"` // the host user whose the files are; -1 the runner's own
	Bytes int64  `json:"bytes"`
}

// Tree is a saved folder that is here.
type Tree struct {
	Digest string  `json:"digest"`
	Layers []Layer `json:"layers"` // the first lies above the others

	tier *Tier
}

var digestForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Open opens the tier in a folder, which is made; what an earlier life left half done goes.
func Open(dir string, most int64) (*Tier, error) {
	t := &Tier{dir: dir, most: most, uses: map[string]int{}}
	for _, d := range []string{dir, t.in("layers"), t.in("trees")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, err
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return t, t.trim(0)
}

func (t *Tier) in(names ...string) string { return filepath.Join(append([]string{t.dir}, names...)...) }

// Making is the folder of a layer that is being made.
type Making struct {
	Dir  string
	name string
}

// Make begins a layer. It is not kept until a tree is kept that it is part of; remove it when that will not be.
func (t *Tier) Make() (*Making, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	m := &Making{name: rand.Text()}
	m.Dir = t.in("layers", m.name)
	if err := os.Mkdir(m.Dir, 0o755); err != nil {
		return nil, err
	}
	t.uses[m.name]++
	return m, nil
}

// Drop gives up a layer that was begun, unless a tree was kept with it.
func (t *Tier) Drop(m *Making) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.release(m.name)
	return t.trim(t.most)
}

func (t *Tier) release(layer string) {
	if t.uses[layer]--; t.uses[layer] <= 0 {
		delete(t.uses, layer)
	}
}

// Layer is a layer that was made, of an owner; it has so many bytes.
func (m *Making) Layer(owner int, bytes int64) Layer { return Layer{m.name, owner, bytes} }

// Keep keeps a tree with its written form.
func (t *Tier) Keep(digest string, layers []Layer, written []byte) (*Tree, error) {
	if !digestForm.MatchString(digest) || len(layers) > MostLayers {
		return nil, fmt.Errorf("tree %q in %d layers cannot be kept", digest, len(layers))
	}
	tree := &Tree{Digest: digest, Layers: layers, tier: t}
	text, err := json.Marshal(tree)
	if err != nil {
		return nil, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	err = errors.Join(os.WriteFile(t.in("trees", digest+".tree"), written, 0o600),
		os.WriteFile(t.in("trees", digest+".half"), text, 0o600))
	if err == nil {
		err = os.Rename(t.in("trees", digest+".half"), t.in("trees", digest+".json"))
	}
	if err != nil {
		return nil, err
	}
	t.use(tree)
	return tree, t.trim(t.most)
}

// Find gives a tree that is here, for use; nil when it is not. Let go of it.
func (t *Tier) Find(digest string) *Tree {
	t.mu.Lock()
	defer t.mu.Unlock()
	tree, err := t.read(digest)
	if err != nil {
		return nil
	}
	_ = os.Chtimes(t.in("trees", digest+".json"), time.Now(), time.Now()) // the longest ago goes first
	t.use(tree)
	return tree
}

func (t *Tier) read(digest string) (*Tree, error) {
	if !digestForm.MatchString(digest) {
		return nil, fs.ErrNotExist
	}
	tree := &Tree{tier: t}
	text, err := os.ReadFile(t.in("trees", digest+".json"))
	if err == nil {
		err = json.Unmarshal(text, tree)
	}
	for _, l := range tree.Layers {
		if _, statErr := os.Stat(t.in("layers", filepath.Base(l.Name))); err == nil {
			err = statErr
		}
	}
	return tree, err
}

func (t *Tier) use(tree *Tree) {
	for _, l := range tree.Layers {
		t.uses[l.Name]++
	}
}

// Dir is where a layer of it is.
func (tree *Tree) Dir(l Layer) string { return tree.tier.in("layers", l.Name) }

// Written reads its written form.
func (tree *Tree) Written() ([]byte, error) {
	return os.ReadFile(tree.tier.in("trees", tree.Digest+".tree"))
}

// LetGo ends a use of it.
func (tree *Tree) LetGo() {
	tree.tier.mu.Lock()
	defer tree.tier.mu.Unlock()
	for _, l := range tree.Layers {
		tree.tier.release(l.Name)
	}
}

// Forget removes a tree that is not what it should be.
func (tree *Tree) Forget() error {
	tree.tier.mu.Lock()
	defer tree.tier.mu.Unlock()
	return errors.Join(tree.tier.forget(tree.Digest), tree.tier.trim(tree.tier.most))
}

func (t *Tier) forget(digest string) error {
	err := os.Remove(t.in("trees", digest+".json")) // without it the rest is nothing
	_ = os.Remove(t.in("trees", digest+".tree"))
	return err
}

// Trim gives up trees until what is here takes so many bytes at most. Those in use stay.
func (t *Tier) Trim(most int64) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.trim(most)
}

// trim gives up trees over most bytes (0: any amount that the disk has room for), and layers that no tree has.
func (t *Tier) trim(most int64) error {
	trees, err := t.all()
	if err != nil {
		return err
	}
	now := int64(0)
	for _, tree := range trees {
		for _, l := range tree.Layers {
			now += l.Bytes
		}
	}
	most = disk.Room(t.dir, most, now)
	sizes, trouble := map[string]int64{}, []error(nil)
	total := int64(0)
	kept := 0
	for _, tree := range trees { // those used last first
		more := int64(0)
		for _, l := range tree.Layers {
			if _, has := sizes[l.Name]; !has {
				more += l.Bytes
			}
		}
		if total+more > most && kept > 0 && !t.used(tree) {
			trouble = append(trouble, t.forget(tree.Digest))
			continue
		}
		total += more
		kept++
		for _, l := range tree.Layers {
			sizes[l.Name] = l.Bytes
		}
	}
	entries, err := os.ReadDir(t.in("layers"))
	for _, e := range entries {
		if _, has := sizes[e.Name()]; !has && t.uses[e.Name()] == 0 {
			trouble = append(trouble, disk.RemoveAll(t.in("layers", e.Name())))
		}
	}
	return errors.Join(append(trouble, err)...)
}

func (t *Tier) used(tree *Tree) bool {
	return slices.ContainsFunc(tree.Layers, func(l Layer) bool { return t.uses[l.Name] > 0 })
}

// all lists the trees, those used last first. What cannot be read is removed.
func (t *Tier) all() ([]*Tree, error) {
	entries, err := os.ReadDir(t.in("trees"))
	if err != nil {
		return nil, err
	}
	var list []*Tree
	when := map[string]time.Time{}
	for _, e := range entries {
		digest, is := strings.CutSuffix(e.Name(), ".json")
		info, infoErr := e.Info()
		if !is || infoErr != nil {
			continue
		}
		tree, err := t.read(digest)
		if err != nil {
			_ = t.forget(digest)
			continue
		}
		when[digest] = info.ModTime()
		list = append(list, tree)
	}
	for _, e := range entries {
		digest, _, _ := strings.Cut(e.Name(), ".")
		if _, has := when[digest]; !has {
			_ = os.Remove(t.in("trees", e.Name()))
		}
	}
	slices.SortFunc(list, func(a, b *Tree) int { return when[b.Digest].Compare(when[a.Digest]) })
	return list, nil
}
