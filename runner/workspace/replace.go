package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// Replace gives files of the workspace new content, all of them or none: each is made beside its place first. Modes and
// owners stay.
func (w *Workspace) Replace(files map[string][]byte) (err error) {
	var ready []string
	defer func() {
		for _, name := range ready {
			_ = w.root.Remove(fresh(name)) // what has its place is not there any more
		}
	}()
	olds := map[string][]byte{}
	for name, text := range files {
		if olds[name], err = w.readPlain(name); err != nil {
			return err
		}
		ready = append(ready, name)
		if err := w.writeFresh(name, text); err != nil {
			return err
		}
	}
	for i, name := range ready {
		if err := w.root.Rename(fresh(name), name); err != nil {
			for _, before := range ready[:i] {
				err = errors.Join(err, w.root.WriteFile(before, olds[before], 0o644))
			}
			return err
		}
	}
	return nil
}

// fresh is where a file's new content is made.
func fresh(name string) string { return name + ".piston-new" }

func (w *Workspace) readPlain(name string) ([]byte, error) {
	info, err := w.root.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no plain file", name)
	}
	return w.root.ReadFile(name)
}

func (w *Workspace) writeFresh(name string, text []byte) error {
	info, err := w.root.Lstat(name)
	if err != nil {
		return err
	}
	if err := w.root.Remove(fresh(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := w.root.OpenFile(fresh(name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, info.Mode().Perm())
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	err = errors.Join(err, f.Chmod(info.Mode().Perm()), f.Close())
	if err != nil {
		return err
	}
	return w.as.TakeIn(w.root, fresh(name))
}
