package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"gentlepiston.example/piston/runner/process"
)

// Place writes a secret's file into the workspace. undo removes it, and puts back a file that was there; it is to be
// called whatever the error.
func (w *Workspace) Place(at string, value []byte) (undo func() error, err error) {
	return place(w.root, w.as, at, value)
}

func place(root *os.Root, as *process.Account, at string, value []byte) (undo func() error, err error) {
	undo = func() error { return nil }
	if !filepath.IsLocal(at) {
		return undo, errors.New("the path leaves the workspace")
	}
	for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
		if info, err := root.Lstat(dir); err == nil && !info.IsDir() {
			return undo, fmt.Errorf("%s is no folder but %s, and a secret is only put where folders lead", dir, kindOf(info))
		}
	}
	var before []byte
	was, err := root.Lstat(at)
	switch {
	case err == nil && !was.Mode().IsRegular():
		return undo, fmt.Errorf("%s is there already, and is no file but %s", at, kindOf(was))
	case err == nil:
		if before, err = root.ReadFile(at); err != nil {
			return undo, err
		}
	}
	if err := makeFolder(root, as, path.Dir(at)); err != nil {
		return undo, err
	}
	if err := root.RemoveAll(at); err != nil {
		return undo, err
	}
	undo = func() error {
		err := root.RemoveAll(at)
		if err == nil && was != nil {
			err = errors.Join(root.WriteFile(at, before, was.Mode().Perm()), as.TakeIn(root, at))
		}
		return err
	}
	return undo, errors.Join(root.WriteFile(at, value, 0o600), as.TakeIn(root, at))
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
