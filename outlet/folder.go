package outlet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
)

// Folder is an outlet that is a folder of the server's machine.
type Folder struct {
	shelf
	root *os.Root
}

// OpenFolder opens one, and makes it when there is none.
func OpenFolder(dir string) (*Folder, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	return &Folder{shelf{folder{root}, "a folder"}, root}, err
}

// Close lets go of it.
func (f *Folder) Close() error { return f.root.Close() }

// folder is a folder as a place. No link leads out of it.
type folder struct{ root *os.Root }

func (f folder) try(context.Context) error {
	_, err := f.root.Stat(".")
	return err
}

func (f folder) read(_ context.Context, name string) ([]byte, error) { return f.root.ReadFile(name) }

func (f folder) write(_ context.Context, name string, text []byte) error {
	part := name + ".part"
	file, err := f.root.Create(part)
	if err != nil {
		return err
	}
	_, err = file.Write(text)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return err
	}
	return f.root.Rename(part, name)
}

func (f folder) remove(_ context.Context, name string) error { return f.root.Remove(name) }

// fill makes the folder of a version beside its place, and puts it there when it is whole.
func (f folder) fill(ctx context.Context, at string, o Offer, about []byte, sent func(int64)) error {
	part := path.Join(path.Dir(at), ".part-"+path.Base(at)+"-"+o.Key)
	if err := f.root.RemoveAll(part); err != nil {
		return err
	}
	if err := f.root.MkdirAll(part, 0o755); err != nil {
		return err
	}
	var done int64
	for _, p := range o.Packages {
		err := f.copy(ctx, path.Join(part, p.File), p, func(n int64) { sent(done + n) })
		if err != nil {
			_ = f.root.RemoveAll(part)
			return err
		}
		done += p.Size
	}
	if err := f.write(ctx, path.Join(part, releaseFile), about); err != nil {
		return err
	}
	return f.root.Rename(part, at)
}

// copy writes a package, and holds what was written against its hash.
func (f folder) copy(ctx context.Context, name string, p Package, sent func(int64)) error {
	in, err := p.Open(ctx, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := f.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	held := p.held(in, sent)
	_, err = io.Copy(out, held)
	return errors.Join(err, out.Sync(), out.Close())
}

// drop takes a version away at once, and then its files.
func (f folder) drop(_ context.Context, at string) error {
	aside := path.Join(path.Dir(at), ".gone-"+path.Base(at))
	err := f.root.Rename(at, aside)
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		err = f.root.RemoveAll(aside)
	}
	return err
}

// FolderName checks the name of a folder below that of all outlets.
func FolderName(name string) error {
	for _, part := range strings.Split(name, "/") {
		if !partForm.MatchString(part) {
			return fmt.Errorf("%.100q is no folder: use letters, digits and . _ + -, and / between folders", name)
		}
	}
	return nil
}
