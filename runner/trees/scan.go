// Package trees brings saved folders to and from the disk: it lists what is in folders, cuts files into pieces and
// stores those that are not stored yet, makes folders from pieces, and copies them. What it reads a stranger has made:
// no link is followed, and what is neither file, folder nor link is passed by.
package trees

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"

	"golang.org/x/sys/unix"

	"gentlepiston.example/piston/core/tree"
)

// Found is what is at a path.
type Found struct {
	tree.Change
	Size    int64
	Changed int64 // when anything of it was last changed, as the system says, in nanoseconds since 1970
	holes   bool
}

// TooMany says that a folder has more in it than is kept.
type TooMany struct{ root string }

func (e *TooMany) Error() string {
	return fmt.Sprintf("%s has more than %d files and folders in it: name those of its folders that are worth keeping",
		e.root, tree.MaxEntries)
}

// Final tells that no second try mends it.
func (*TooMany) Final() {}

// scanner lists folders.
type scanner struct {
	ctx   context.Context
	from  *opener
	layer bool // what is read are changes, as overlayfs writes them
	above bool // they change what is above a path, too
	odd   []string
	found []Found
	names map[[2]uint64]string // the first name of files that have several
}

// Scan lists what is at paths below a root, and in it, in the order of tree.Before. What is not there is not listed.
func Scan(ctx context.Context, root *os.Root, paths []string) ([]Found, error) {
	return scan(&scanner{ctx: ctx}, root, paths)
}

// Scanned is what is at some paths.
type Scanned struct {
	Found []Found
	Odd   []string // what is passed by: sockets, pipes, devices
	Above bool     // of a layer: it changes what is above a path, so that it alone does not say what is there
}

// ScanOdd lists what Scan does, and what it passes by.
func ScanOdd(ctx context.Context, root *os.Root, paths []string) (Scanned, error) {
	s := &scanner{ctx: ctx}
	found, err := scan(s, root, paths)
	return Scanned{found, s.odd, false}, err
}

// ScanLayer lists what the upper layer of an overlay changes at paths of the lower ones.
func ScanLayer(ctx context.Context, root *os.Root, paths []string) (Scanned, error) {
	s := &scanner{ctx: ctx, layer: true}
	found, err := scan(s, root, paths)
	return Scanned{found, s.odd, s.above}, err
}

func scan(s *scanner, root *os.Root, paths []string) (found []Found, err error) {
	s.names = map[[2]uint64]string{}
	if s.from, err = newOpener(root); err != nil {
		return nil, err
	}
	defer s.from.close()
	for _, p := range Roots(paths) {
		if err := s.root(p); err != nil {
			return nil, err
		}
		if len(s.found) > tree.MaxEntries {
			return nil, &TooMany{p}
		}
	}
	return s.found, nil
}

// root looks at a path.
func (s *scanner) root(p string) error {
	if s.layer {
		if err := s.lookAbove(path.Dir(p)); err != nil {
			return err
		}
	}
	dir, err := s.from.open(path.Dir(p), true)
	if isNothing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer dir.Close()
	return s.one(dir, path.Base(p), p)
}

// isNothing tells that no folder is at a path.
func isNothing(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP)
}

// lookAbove notes when a layer changes which folders lead to a path.
func (s *scanner) lookAbove(at string) error {
	for ; at != "."; at = path.Dir(at) {
		dir, err := s.from.open(at, true)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue // as below
		case isNothing(err):
			s.above = true
			return nil
		case err != nil:
			return err
		}
		s.above = s.above || opaque(int(dir.Fd()))
		dir.Close()
	}
	return nil
}

// one looks at a name in a folder, and when that is a folder into it.
func (s *scanner) one(dir *os.File, name, at string) error {
	if s.ctx.Err() != nil {
		return context.Cause(s.ctx)
	}
	var st unix.Stat_t
	if err := unix.Fstatat(int(dir.Fd()), name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		if errors.Is(err, unix.ENOENT) {
			return nil
		}
		return &fs.PathError{Op: "stat", Path: at, Err: err}
	}
	f := Found{Size: st.Size, Changed: nanoseconds(changed(&st))}
	f.Path, f.Mode, f.Time = at, fs.FileMode(st.Mode)&fs.ModePerm, nanoseconds(modified(&st))
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		f.Kind = tree.Folder
		return s.folder(dir, name, f)
	case unix.S_IFLNK:
		target, err := readlink(dir, name, int(st.Size))
		if err != nil {
			return &fs.PathError{Op: "readlink", Path: at, Err: err}
		}
		f.Kind, f.Target, f.Mode, f.Time = tree.Link, target, 0, 0
	case unix.S_IFREG:
		f.Kind, f.holes = tree.File, int64(st.Blocks)*512 < st.Size
		if st.Nlink > 1 {
			id := [2]uint64{uint64(st.Dev), st.Ino}
			if first, has := s.names[id]; has {
				f.Kind, f.Target, f.Mode, f.Time = tree.Twin, first, 0, 0
			} else {
				s.names[id] = at
			}
		}
	default:
		whiteout := st.Mode&unix.S_IFMT == unix.S_IFCHR && st.Rdev == 0
		if !s.layer || !whiteout { // a whiteout (Documentation/filesystems/overlayfs.rst) says that nothing is there
			s.odd = append(s.odd, at)
		}
		if f.Gone = s.layer; !s.layer {
			return nil // sockets and pipes are of no use later
		}
	}
	s.found = append(s.found, f)
	return nil
}

// folder lists a folder and what is in it.
func (s *scanner) folder(parent *os.File, name string, f Found) error {
	fd, err := unix.Openat(int(parent.Fd()), name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return &fs.PathError{Op: "open", Path: f.Path, Err: err}
	}
	dir := os.NewFile(uintptr(fd), f.Path)
	defer dir.Close()
	if s.layer {
		f.Alone = opaque(fd)
	}
	s.found = append(s.found, f)
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return err
	}
	if len(s.found)+len(names) > tree.MaxEntries {
		return &TooMany{f.Path}
	}
	slices.Sort(names)
	for _, name := range names {
		if at := f.Path + "/" + name; tree.ValidPath(at) {
			if err := s.one(dir, name, at); err != nil {
				return err
			}
		}
	}
	return nil
}

func readlink(dir *os.File, name string, size int) (string, error) {
	target := make([]byte, max(size, 255)+1)
	n, err := unix.Readlinkat(int(dir.Fd()), name, target)
	return string(target[:max(n, 0)]), err
}

func nanoseconds(t unix.Timespec) int64 { return t.Nano() }

// Roots are the paths of a cache as a tree has them: clean, in order, none within another.
func Roots(paths []string) (roots []string) {
	clean := make([]string, len(paths))
	for i, p := range paths {
		clean[i] = path.Clean(p)
	}
	slices.SortFunc(clean, tree.Compare)
	for _, p := range clean {
		if len(roots) == 0 || !tree.Below(p, roots[len(roots)-1]) {
			roots = append(roots, p)
		}
	}
	return roots
}
