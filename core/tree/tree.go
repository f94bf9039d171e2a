// Package tree has what a saved folder looks like: which files, folders and links are in it, and of which pieces the
// files are made. Its written form says the same of the same folder whatever is stored where, so its name, a digest,
// stands for the content; where the pieces lie is written beside it.
//
// A tree that comes from elsewhere is a stranger's word until it is checked (Decode): no path leaves its roots, every
// entry is in a folder that is there before it, and a link of any kind leads nowhere while files are written.
package tree

import (
	"bytes"
	"fmt"
	"io/fs"
	"strings"

	"gentlepiston.example/piston/core/chunk"
)

// Kind is what an entry is.
type Kind byte

// A Twin is a further name of a file that is there already (a hard link).
const (
	Folder Kind = iota + 1
	File
	Link
	Twin
)

// Entry is one thing in a tree.
type Entry struct {
	Path   string // slashes between names, which may be any bytes
	Kind   Kind
	Mode   fs.FileMode // permissions
	Time   int64       // last change, in nanoseconds since 1970; of files and folders
	Target string      // what a link says; of a twin, the path of the file
	Pieces []Piece     // of a file, in their order
}

// Size is how many bytes a file has.
func (e *Entry) Size() (n int64) {
	for _, p := range e.Pieces {
		n += p.Len
	}
	return n
}

// Piece is a part of a file.
type Piece struct {
	Len  int64
	Hole bool // nothing but zeros, and not stored
	ID   chunk.ID
	At   Place
}

// PackID names a pack, in which pieces are stored.
type PackID int64

// Place is where a piece is stored: in a block of a pack, which is compressed as a whole.
type Place struct {
	Pack  PackID
	Block Block
	From  uint32 // bytes of the unpacked block before it
}

// Block is a part of a pack.
type Block struct {
	Start  uint32 // bytes of the pack before it
	Packed uint32 // how many bytes it has there
	Raw    uint32 // and unpacked
}

// Tree is a saved folder, or several.
type Tree struct {
	Roots   []string // what was saved: folders or files, as paths below the workspace
	Entries []Entry  // in the order of Before
}

// Files is how many files there are in it, and how many bytes they have.
func (t *Tree) Files() (n int, size int64) {
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == File {
			n++
			size += e.Size()
		}
	}
	return n, size
}

// Packs are the packs in which its pieces are, each once, in the order in which they are met.
func (t *Tree) Packs() (ids []PackID) {
	seen := map[PackID]bool{}
	for i := range t.Entries {
		for _, p := range t.Entries[i].Pieces {
			if !p.Hole && !seen[p.At.Pack] {
				seen[p.At.Pack] = true
				ids = append(ids, p.At.Pack)
			}
		}
	}
	return ids
}

// Before is the order of entries: a folder before what is in it, and what is in it before what comes after it.
func Before(a, b string) bool { return Compare(a, b) < 0 }

// Compare tells which of two paths comes first.
func Compare(a, b string) int {
	n := min(len(a), len(b))
	for i := range n {
		if a[i] == b[i] {
			continue
		}
		switch {
		case a[i] == '/':
			return -1
		case b[i] == '/' || a[i] > b[i]:
			return 1
		}
		return -1
	}
	return len(a) - len(b)
}

// Below tells whether a path is a root or is in it.
func Below(path, root string) bool {
	return path == root || strings.HasPrefix(path, root) && len(path) > len(root) && path[len(root)] == '/'
}

// ValidPath tells whether a path is one that leads down only. Names may be any bytes but NUL and slash.
func ValidPath(path string) bool {
	if path == "" || strings.IndexByte(path, 0) >= 0 || len(path) > maxPath {
		return false
	}
	for name := range strings.SplitSeq(path, "/") {
		if name == "" || name == "." || name == ".." || len(name) > maxName {
			return false
		}
	}
	return true
}

// OfGit tells whether a path is the repository's own, which no saved folder changes: git would do what is said there.
// On some systems capitals and small letters are the same.
func OfGit(path string) bool {
	first, _, _ := strings.Cut(path, "/")
	return strings.EqualFold(first, ".git")
}

// What systems allow (limits.h: PATH_MAX, NAME_MAX).
const (
	maxPath = 4096
	maxName = 255
)

// check refuses a tree that could write anywhere but below its roots.
func (t *Tree) check() error {
	if len(t.Roots) == 0 {
		return fmt.Errorf("%w: it has no root", ErrDamaged)
	}
	for i, root := range t.Roots {
		if !ValidPath(root) || OfGit(root) || i > 0 && !Before(t.Roots[i-1], root) {
			return fmt.Errorf("%w: root %q", ErrDamaged, root)
		}
	}
	kinds := make(map[string]Kind)
	before, at := "", 0
	for i := range t.Entries {
		e := &t.Entries[i]
		for at < len(t.Roots) && !Below(e.Path, t.Roots[at]) {
			at++
		}
		isRoot := at < len(t.Roots) && e.Path == t.Roots[at]
		switch {
		case at == len(t.Roots) || !ValidPath(e.Path):
			return fmt.Errorf("%w: %q is not below %q", ErrDamaged, e.Path, t.Roots)
		case i > 0 && !Before(before, e.Path):
			return fmt.Errorf("%w: %q stands after %q", ErrDamaged, e.Path, before)
		case !isRoot && kinds[e.Path[:strings.LastIndexByte(e.Path, '/')]] != Folder:
			return fmt.Errorf("%w: %q is in no folder", ErrDamaged, e.Path)
		case e.Kind < Folder || e.Kind > Twin || e.Mode&^fs.ModePerm != 0 || e.Kind != File && len(e.Pieces) > 0:
			return fmt.Errorf("%w: what %q is", ErrDamaged, e.Path)
		case e.Kind == Twin && kinds[e.Target] != File:
			return fmt.Errorf("%w: %q is another name of %q, which is no file before it", ErrDamaged, e.Path, e.Target)
		case e.Kind == Link && (e.Target == "" || len(e.Target) > maxPath || strings.IndexByte(e.Target, 0) >= 0):
			return fmt.Errorf("%w: where %q leads", ErrDamaged, e.Path)
		}
		kinds[e.Path], before = e.Kind, e.Path
	}
	return nil
}

// Digest names a tree by its content.
func (t *Tree) Digest() chunk.ID {
	var content bytes.Buffer
	t.writeContent(&content)
	return chunk.Sum(content.Bytes())
}
