package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
)

// Place writes a secret's file into the workspace. undo removes it, and puts back a file that was there; it is to be
// called whatever the error.
func (w *Workspace) Place(at string, value []byte) (undo func() error, err error) {
	undo = func() error { return nil }
	if !filepath.IsLocal(at) {
		return undo, errors.New("the path leaves the workspace")
	}
	for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
		if info, err := w.root.Lstat(dir); err == nil && !info.IsDir() {
			return undo, fmt.Errorf("%s is no folder but %s, and a secret is only put where folders lead", dir, kindOf(info))
		}
	}
	var before []byte
	was, err := w.root.Lstat(at)
	switch {
	case err == nil && !was.Mode().IsRegular():
		return undo, fmt.Errorf("%s is there already, and is no file but %s", at, kindOf(was))
	case err == nil:
		if before, err = w.root.ReadFile(at); err != nil {
			return undo, err
		}
	}
	if err := makeFolder(w.root, w.as, path.Dir(at)); err != nil {
		return undo, err
	}
	if err := w.root.RemoveAll(at); err != nil {
		return undo, err
	}
	undo = func() error {
		err := w.root.RemoveAll(at)
		if err == nil && was != nil {
			err = errors.Join(w.root.WriteFile(at, before, was.Mode().Perm()), w.as.TakeIn(w.root, at))
		}
		return err
	}
	return undo, errors.Join(w.root.WriteFile(at, value, 0o600), w.as.TakeIn(w.root, at))
}

// kindOf says what a file is that is not a plain one.
func kindOf(info fs.FileInfo) string {
	switch {
	case info.IsDir():
		return "a folder"
	case info.Mode()&fs.ModeSymlink != 0:
		return "a symbolic link"
	case info.Mode().IsRegular():
		return "a file"
	}
	return "a device, a socket or a pipe"
}
