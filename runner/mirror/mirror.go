// Package mirror is what a runner keeps of the repositories of projects, so that of the next commit only what is new
// comes over the network: packs (gitformat-pack(5)), and which commits they have. Jobs read it and never write it: what
// was fetched for one is copied here before its first step begins.
//
// Only what may be read by every job of a project's own branches is kept, and only they are lent it; a proposal from
// outside is not. Where a mirror lies is a secret to those who were not lent it.
package mirror

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"gentlepiston.example/piston/disk"
)

// Mirrors are those in a folder. One process has them at a time.
type Mirrors struct {
	dir  string
	most int64 // bytes
	mu   sync.Mutex
	uses map[string]int
}

// mostPacks is how many packs a mirror may be in: git looks into each. One in more is begun anew.
const mostPacks = 100

// mostTips is how many commits are told to the service as being here, the last ones.
const mostTips = 16

// half begins the names of files that are being written.
const half = "half-"

// oldest is how long a mirror is used, so that what a project has removed does not stay for ever.
const oldest = 14 * 24 * time.Hour

// about is what is known of a mirror.
type about struct {
	Of    string            `json:"of"`
	Since time.Time         `json:"since"`
	Tips  []string          `json:"tips"`           // commits that it has with all their files, the last one last
	Refs  map[string]string `json:"refs,omitempty"` // with all that was before them, by name
	Bytes int64             `json:"bytes"`
	Packs int               `json:"packs"`
}

// Mirror is one that is lent to a job.
type Mirror struct {
	all  *Mirrors
	name string
}

// Open opens the mirrors in a folder, which is made; what an earlier life left half done goes. They may take so many
// bytes; 0 any amount that the disk has room for.
func Open(dir string, most int64) (*Mirrors, error) {
	m := &Mirrors{dir: dir, most: most, uses: map[string]int{}}
	// Its users go through it, and do not list it.
	if err := errors.Join(os.MkdirAll(dir, 0o711), os.Chmod(dir, 0o711)); err != nil {
		return nil, err
	}
	for _, place := range []string{"objects/pack", "large"} {
		left, err := filepath.Glob(filepath.Join(dir, "*", place, half+"*"))
		if err != nil {
			return nil, err
		}
		for _, file := range left {
			if err := os.Remove(file); err != nil {
				return nil, err
			}
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m, m.trim()
}

// Borrow lends the mirror of something, which is empty when there was none. Give it back.
func (m *Mirrors) Borrow(of string) (*Mirror, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	all, err := m.list()
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if e.Of == of && e.Packs < mostPacks && time.Since(e.Since) < oldest {
			_ = os.Chtimes(m.aboutFile(e.name), time.Now(), time.Now()) // the longest ago goes first
			return m.lend(e.name), nil
		}
	}
	name := rand.Text()
	for _, dir := range []string{name, name + "/objects", name + "/objects/pack"} {
		err = errors.Join(err, os.Mkdir(filepath.Join(m.dir, dir), 0o755), os.Chmod(filepath.Join(m.dir, dir), 0o755))
	}
	err = errors.Join(err, os.Mkdir(filepath.Join(m.dir, name, "large"), 0o700),
		m.write(name, about{Of: of, Since: time.Now()}))
	if err != nil {
		return nil, errors.Join(err, disk.RemoveAll(filepath.Join(m.dir, name)))
	}
	return m.lend(name), nil
}

func (m *Mirrors) lend(name string) *Mirror {
	m.uses[name]++
	return &Mirror{all: m, name: name}
}

// GiveBack ends a use of it.
func (b *Mirror) GiveBack() error {
	m := b.all
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.uses[b.name]--; m.uses[b.name] <= 0 {
		delete(m.uses, b.name)
	}
	return m.trim()
}

// Objects is where the objects are (gitrepository-layout(5)), for .git/objects/info/alternates.
func (b *Mirror) Objects() string { return filepath.Join(b.all.dir, b.name, "objects") }

// Has tells which commits are here with their files, and which references with all that was before them.
func (b *Mirror) Has() (tips []string, refs map[string]string) {
	b.all.mu.Lock()
	defer b.all.mu.Unlock()
	a, err := b.all.read(b.name)
	if err != nil {
		return nil, nil
	}
	return a.Tips[max(0, len(a.Tips)-mostTips):], a.Refs
}

// Keep copies packs, of those in a folder, that are not here yet, and notes which commit is here with them, or which
// references are.
func (b *Mirror) Keep(packs fs.FS, tip string, refs map[string]string) error {
	names, err := fs.Glob(packs, "pack-*.pack")
	if err != nil {
		return err
	}
	bytes, count := int64(0), 0
	for _, pack := range names {
		at := filepath.Join(b.Objects(), "pack", filepath.Base(pack))
		if _, err := os.Stat(at); err == nil {
			continue
		}
		// git takes a pack for one when its index is there, so that comes last (gitformat-pack(5)).
		for _, ending := range []string{".pack", ".idx"} {
			from, err := packs.Open(strings.TrimSuffix(pack, ".pack") + ending)
			if err != nil {
				return err
			}
			n, err := put(strings.TrimSuffix(at, ".pack")+ending, from)
			from.Close()
			if err != nil {
				return err
			}
			bytes += n
		}
		count++
	}
	return b.change(func(a *about) {
		a.Bytes, a.Packs = a.Bytes+bytes, a.Packs+count
		if refs != nil {
			a.Refs = refs
		}
		if tip != "" && !slices.Contains(a.Tips, tip) {
			a.Tips = append(a.Tips, tip)
		}
	})
}

// put writes a file that all may read and nobody write; it is there whole or not at all.
func put(at string, from io.Reader) (n int64, err error) {
	to, err := os.CreateTemp(filepath.Dir(at), half+"*")
	if err != nil {
		return 0, err
	}
	n, err = io.Copy(to, from)
	if err = errors.Join(err, to.Chmod(0o444), to.Close()); err == nil {
		err = os.Rename(to.Name(), at)
	}
	if err != nil {
		_ = os.Remove(to.Name())
	}
	return n, err
}

// change changes what is known of it.
func (b *Mirror) change(with func(*about)) error {
	b.all.mu.Lock()
	defer b.all.mu.Unlock()
	a, err := b.all.read(b.name)
	if err != nil {
		return err
	}
	with(&a)
	return b.all.write(b.name, a)
}

// Large opens a large file that is here, by the SHA-256 of its content, which whoever reads it compares.
func (b *Mirror) Large(id string) (*os.File, error) { return os.Open(b.large(id)) }

func (b *Mirror) large(id string) string {
	return filepath.Join(b.all.dir, b.name, "large", filepath.Base(id))
}

// KeepLarge copies a large file.
func (b *Mirror) KeepLarge(id string, from io.Reader) error {
	n, err := put(b.large(id), from)
	if err != nil {
		return err
	}
	return b.change(func(a *about) { a.Bytes += n })
}

// ForgetLarge removes a large file that is not what it should be.
func (b *Mirror) ForgetLarge(id string) error { return os.Remove(b.large(id)) }

// Forget has nobody be lent it any more: it is not what it should be.
func (b *Mirror) Forget() error {
	b.all.mu.Lock()
	defer b.all.mu.Unlock()
	err := os.Remove(b.all.aboutFile(b.name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // somebody else has
	}
	return err
}

func (m *Mirrors) aboutFile(name string) string { return filepath.Join(m.dir, name, "about.json") }

func (m *Mirrors) read(name string) (a about, err error) {
	text, err := os.ReadFile(m.aboutFile(name))
	if err == nil {
		err = json.Unmarshal(text, &a)
	}
	if err != nil {
		return a, fmt.Errorf("mirror %s: %w", name, err)
	}
	return a, nil
}

func (m *Mirrors) write(name string, a about) error {
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	next := filepath.Join(m.dir, name, "next.json")
	if err := os.WriteFile(next, text, 0o600); err != nil {
		return err
	}
	return os.Rename(next, m.aboutFile(name))
}

// entry is one that is here.
type entry struct {
	about
	name string
	used time.Time
}

// list lists them, those used last first. One of which nothing is known is none.
func (m *Mirrors) list() (all []entry, err error) {
	folders, err := os.ReadDir(m.dir)
	if err != nil {
		return nil, err
	}
	for _, f := range folders {
		info, err := os.Stat(m.aboutFile(f.Name()))
		if err != nil {
			continue
		}
		if a, err := m.read(f.Name()); err == nil {
			all = append(all, entry{a, f.Name(), info.ModTime()})
		}
	}
	slices.SortFunc(all, func(a, b entry) int { return b.used.Compare(a.used) })
	return all, nil
}

// trim removes what nobody is lent: what is half done, replaced by a newer one, or over the room there is.
func (m *Mirrors) trim() error {
	all, err := m.list()
	if err != nil {
		return err
	}
	now, newest := int64(0), map[string]time.Time{}
	for _, e := range all {
		now += e.Bytes
		if e.Since.After(newest[e.Of]) {
			newest[e.Of] = e.Since
		}
	}
	most, total, stay := disk.Room(m.dir, m.most, now), int64(0), map[string]bool{}
	for _, e := range all { // those used last first
		useful := e.Since.Equal(newest[e.Of]) && time.Since(e.Since) < oldest
		if m.uses[e.name] > 0 || useful && total+e.Bytes <= most {
			total += e.Bytes
			stay[e.name] = true
		}
	}
	folders, err := os.ReadDir(m.dir)
	trouble := []error{err}
	for _, f := range folders {
		if !stay[f.Name()] && m.uses[f.Name()] == 0 {
			trouble = append(trouble, disk.RemoveAll(filepath.Join(m.dir, f.Name())))
		}
	}
	return errors.Join(trouble...)
}
