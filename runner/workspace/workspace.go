// Package workspace has the files of one attempt, and all ways to them: how they are made and removed, what is put in
// and taken out, what is looked for in them, and how much room they take. Nothing else opens a path in a workspace, and
// no link in it leads out: it is a stranger's.
package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/runner/process"
)

// Workspace is the files of one attempt.
type Workspace struct {
	Hiding *Hiding // what may not leave it
	Below  *Below  // saved folders that lie below its sources

	folder string           // everything of the attempt is below it
	as     *process.Account // whose the files are
	root   *os.Root         // of the sources
}

// New is a workspace below a folder, whose files are an account's. It is there once it is made.
func New(folder string, as *process.Account) *Workspace {
	w := &Workspace{Hiding: NewHiding(), folder: folder, as: as}
	w.Below = &Below{w: w}
	return w
}

// Source is where, below an attempt's folder, the checkout is that its steps work in.
func Source(folder string) string { return filepath.Join(folder, "build", "src") }

// Folder is what all files of the attempt are below.
func (w *Workspace) Folder() string { return w.folder }

// Build is what steps see of it: sources, home, temporary files.
func (w *Workspace) Build() string { return filepath.Join(w.folder, "build") }

// Source is where the checkout is.
func (w *Workspace) Source() string { return Source(w.folder) }

// Make makes the folders. Nobody but the attempt's own user gets in, nor the users of other slots.
func (w *Workspace) Make() (err error) {
	if err := os.MkdirAll(w.folder, 0o700); err != nil {
		return err
	}
	build := w.Build()
	for _, dir := range []string{w.folder, build, w.Source(), filepath.Join(build, "home"), filepath.Join(build, "tmp")} {
		if err := errors.Join(os.MkdirAll(dir, 0o755), w.as.Take(dir)); err != nil {
			return err
		}
	}
	w.root, err = os.OpenRoot(w.Source())
	return err
}

// Hide begins to hide secrets, and what steps declare beside them.
func (w *Workspace) Hide(secrets []mask.Value) error {
	file := filepath.Join(w.Build(), HideFile)
	if err := w.Hiding.begin(secrets, file); err != nil {
		return err
	}
	return w.as.Take(file)
}

// Close lets go of it; what it hid is forgotten. The files stay.
func (w *Workspace) Close() {
	if w.root != nil {
		w.root.Close()
	}
	w.Hiding.forget()
}

// Remove removes its files.
func (w *Workspace) Remove() error {
	if err := w.Below.unmount(); err != nil {
		return err
	}
	return disk.RemoveAll(w.folder)
}

// Root is the files of the checkout, by a way that no link in them leads out of.
func (w *Workspace) Root() *os.Root { return w.root }

// FS is the files of the checkout, which no link leads out of.
func (w *Workspace) FS() fs.FS { return w.root.FS() }

// Find lists the files that globs match.
func (w *Workspace) Find(globs []string) (artifact.Found, error) { return artifact.Find(w.FS(), globs) }

// Stat tells of a file, of what a link leads to.
func (w *Workspace) Stat(name string) (fs.FileInfo, error) { return w.root.Stat(name) }

// Lstat tells of a file, or of a link.
func (w *Workspace) Lstat(name string) (fs.FileInfo, error) { return w.root.Lstat(name) }

// Open opens a file to be read.
func (w *Workspace) Open(name string) (*os.File, error) { return w.root.Open(name) }

// OpenFolder opens a folder of the checkout.
func (w *Workspace) OpenFolder(dir string) (*os.Root, error) { return w.root.OpenRoot(path.Clean(dir)) }

// MakeFolder makes a folder of the checkout, and those it is in.
func (w *Workspace) MakeFolder(name string) error { return makeFolder(w.root, w.as, path.Clean(name)) }

// LeadTo makes a folder of the checkout, and those it is in, and refuses links on the way.
func (w *Workspace) LeadTo(dir string) error {
	for at := path.Clean(dir); at != "."; at = path.Dir(at) {
		if info, err := w.root.Lstat(at); err == nil && !info.IsDir() {
			return fmt.Errorf("%s is no folder but %s", at, kindOf(info))
		}
	}
	return w.MakeFolder(dir)
}

// Write writes a file of the checkout.
func (w *Workspace) Write(name, text string) error {
	return errors.Join(w.root.WriteFile(name, []byte(text), 0o644), w.as.TakeIn(w.root, name))
}

// ReadFile reads one.
func (w *Workspace) ReadFile(name string) ([]byte, error) { return w.root.ReadFile(name) }

// Own makes a file the attempt's user's.
func (w *Workspace) Own(root *os.Root, name string) error { return w.as.TakeIn(root, name) }

// Account is the host user whose the files are; nil for the runner's own.
func (w *Workspace) Account() *process.Account { return w.as }

// Beside writes a file anew that is of the attempt but not of what steps see, and gives its path.
func (w *Workspace) Beside(name string, text []byte, mode fs.FileMode) (string, error) {
	at := filepath.Join(w.folder, name)
	if err := os.Remove(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	return at, os.WriteFile(at, text, mode)
}

// BesideFolder makes a folder of that kind; one that an earlier life left behind goes.
func (w *Workspace) BesideFolder(name string) (string, error) {
	at := filepath.Join(w.folder, name)
	return at, errors.Join(os.RemoveAll(at), os.Mkdir(at, 0o700))
}
