package workspace

import (
	"errors"
	"os"
	"path/filepath"

	"gentlepiston.example/piston/runner/mount"
)

// upper is where the sources are while folders lie below them.
func (w *Workspace) upper() string { return filepath.Join(w.folder, "overlay", "upper") }

// Lay has layers lie below the sources: what is in them is there, as if it had been copied, and what is done to it they
// do not see. All ways into the workspace lead to the same.
func (w *Workspace) Lay(layers []mount.Layer) (err error) {
	work, source := filepath.Join(w.folder, "overlay", "work"), w.Source()
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	if err := os.Rename(source, w.upper()); err != nil {
		return err
	}
	err = errors.Join(os.Mkdir(source, 0o755), w.as.Take(source))
	if err == nil {
		err = mount.Overlay(source, layers, w.upper(), work, w.as)
	}
	if err != nil {
		return errors.Join(err, os.RemoveAll(source), os.Rename(w.upper(), source))
	}
	w.laid.Store(true)
	return w.reopen()
}

// Laid tells whether layers lie below the sources.
func (w *Workspace) Laid() bool { return w.laid.Load() }

// OpenUpper opens what is not of the layers: the sources, and what was changed.
func (w *Workspace) OpenUpper() (*os.Root, error) { return os.OpenRoot(w.upper()) }

// Lift takes the layers away; what was not of them stays. An error says that something still uses them.
func (w *Workspace) Lift() error {
	if !w.laid.Load() {
		return nil
	}
	w.root.Close()
	if err := mount.Unmount(w.Source()); err != nil {
		return errors.Join(err, w.reopen())
	}
	w.laid.Store(false)
	if err := errors.Join(os.Remove(w.Source()), os.Rename(w.upper(), w.Source())); err != nil {
		return err
	}
	return w.reopen()
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
