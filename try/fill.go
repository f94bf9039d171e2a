package try

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"gentlepiston.example/piston/source"
)

// fill puts a work tree, as it is, into a workspace: what Git tracks, with its changes, as a push would. untracked adds
// what it neither tracks nor ignores. again keeps what else is in the workspace.
func fill(ctx context.Context, w *source.WorkTree, folder, workspace string, untracked, again, history bool) error {
	if !again {
		if err := clone(ctx, w, folder, workspace, history); err != nil {
			return err
		}
	}
	from, err := os.OpenRoot(w.Dir)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := os.OpenRoot(workspace)
	if err != nil {
		return err
	}
	defer to.Close()
	list := w.Entries
	if untracked {
		list = append(slices.Clone(list), w.Loose...)
	}
	for _, e := range list {
		if err := copyEntry(from, to, filepath.FromSlash(e.Path), e.Mode, again); err != nil {
			return fmt.Errorf("copying %s into the workspace: %w", e.Path, err)
		}
	}
	return nil
}

// clone gives the workspace a repository of its own, so that a step may ask Git, and change what it likes. It is made
// once for a commit and copied for each job.
func clone(ctx context.Context, w *source.WorkTree, folder, workspace string, history bool) error {
	made := filepath.Join(folder, "clones", fmt.Sprintf("%s-%t", w.Commit, history))
	if _, err := os.Stat(made); errors.Is(err, fs.ErrNotExist) {
		if err := os.RemoveAll(filepath.Join(folder, "clones")); err != nil { // of other commits
			return err
		}
		if err := os.MkdirAll(filepath.Dir(made), 0o700); err != nil {
			return err
		}
		half, err := os.MkdirTemp(filepath.Dir(made), ".half-*")
		if err != nil {
			return err
		}
		if err := w.CloneInto(ctx, half, history); err != nil {
			return err
		}
		if err := os.Rename(half, made); err != nil {
			return err
		}
	}
	return os.CopyFS(workspace, os.DirFS(made))
}

// copyEntry copies a file or link. With unchanged, one whose size and time are the same is left alone.
func copyEntry(from, to *os.Root, name, mode string, unchanged bool) error {
	info, err := from.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // gone this moment
	}
	if err != nil {
		return err
	}
	if there, err := to.Lstat(name); err == nil {
		if unchanged && there.Mode().IsRegular() && there.Size() == info.Size() && there.ModTime().Equal(info.ModTime()) {
			return nil
		}
		if err := to.RemoveAll(name); err != nil {
			return err
		}
	}
	if dir := filepath.Dir(name); dir != "." {
		if err := to.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	switch {
	case info.IsDir():
		return to.MkdirAll(name, 0o755) // a submodule: its files are not part of this tree
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := from.Readlink(name)
		if err != nil {
			return err
		}
		return to.Symlink(target, name)
	case !info.Mode().IsRegular():
		return nil
	}
	return copyFile(from, to, name, mode, info)
}

func copyFile(from, to *os.Root, name, mode string, info fs.FileInfo) error {
	in, err := from.Open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	// Git keeps one bit of a file's mode; a checkout by the service has no more.
	perm := fs.FileMode(0o644)
	if mode == "100755" {
		perm = 0o755
	}
	out, err := to.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, perm)
	if err != nil {
		return err
	}
	if _, err := io.Copy(out, in); err != nil {
		out.Close()
		return err
	}
	if err := out.Close(); err != nil {
		return err
	}
	return to.Chtimes(name, info.ModTime(), info.ModTime())
}
