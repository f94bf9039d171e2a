package workspace

import (
	"errors"
	"os"
	"path/filepath"
	"sync/atomic"

	"gentlepiston.example/piston/runner/mount"
)

// Below is what lies below the sources of a workspace: saved folders, in layers.
type Below struct {
	w    *Workspace
	laid atomic.Bool
}

// upper is where the sources are while folders lie below them.
func (b *Below) upper() string { return filepath.Join(b.w.folder, "overlay", "upper") }

// Lay has layers lie below the sources: what is in them is there, as if it had been copied, and what is done to it they
// do not see. All ways into the workspace lead to the same.
func (b *Below) Lay(layers []mount.Layer) (err error) {
	w, work, source := b.w, filepath.Join(b.w.folder, "overlay", "work"), b.w.Source()
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	if err := os.Rename(source, b.upper()); err != nil {
		return err
	}
	err = errors.Join(os.Mkdir(source, 0o755), w.as.Take(source))
	if err == nil {
		err = mount.Overlay(source, layers, b.upper(), work, w.as)
	}
	if err != nil {
		return errors.Join(err, os.RemoveAll(source), os.Rename(b.upper(), source))
	}
	b.laid.Store(true)
	return w.reopen()
}

// OpenUpper opens what is not of the layers: the sources, and what was changed.
func (b *Below) OpenUpper() (*os.Root, error) { return os.OpenRoot(b.upper()) }

// Lift takes the layers away; what was not of them stays. An error says that something still uses them.
func (b *Below) Lift() error {
	if !b.laid.Load() {
		return nil
	}
	w := b.w
	if err := b.unmount(); err != nil {
		return errors.Join(err, w.reopen())
	}
	if err := errors.Join(os.Remove(w.Source()), os.Rename(b.upper(), w.Source())); err != nil {
		return err
	}
	return w.reopen()
}

// unmount takes the layers away, if there are any.
func (b *Below) unmount() error {
	if !b.laid.Load() {
		return nil
	}
	b.w.root.Close() // or it would be in use
	err := mount.Unmount(b.w.Source())
	b.laid.Store(err != nil)
	return err
}

// reopen opens the sources anew, which are elsewhere now.
func (w *Workspace) reopen() error {
	w.root.Close()
	root, err := os.OpenRoot(w.Source())
	if err == nil {
		w.root = root
	}
	return err
}
