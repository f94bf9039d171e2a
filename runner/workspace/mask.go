package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/runner/mount"
	"gentlepiston.example/piston/runner/trees"
)

// A view need not be copied where the workspace can lie below it: between them lies a mask, in which whatever is no
// input is gone, and what the step does lies above.

// seen is the folder of a view that lies above the workspace, in which its files are seen.
const seen = "seen"

// mostHidden is how many names a mask hides at least; for many inputs as many more. Few files among very many others
// are copied sooner.
const mostHidden = 2000

var errHidesTooMuch = errors.New("there is too much to hide")

// lay makes the view by laying it above the workspace.
func (v *View) lay(ctx context.Context) error {
	mask, upper, work := filepath.Join(v.dir, "mask"), filepath.Join(v.dir, "upper"), filepath.Join(v.dir, "work")
	for _, dir := range []string{mask, upper, work, filepath.Join(v.dir, seen)} {
		if err := os.Mkdir(dir, 0o755); err != nil {
			return err
		}
	}
	leads := map[string]bool{".": true} // folders that lead to inputs
	for name := range v.inputs {
		for at := path.Dir(name); !leads[at]; at = path.Dir(at) {
			leads[at] = true
		}
	}
	most := mostHidden + len(v.inputs)
	if err := v.hide(ctx, mask, ".", leads, &most); err != nil {
		return err
	}
	if err := v.w.as.Take(upper); err != nil {
		return err
	}
	own := v.w.as.ID()
	layers := []mount.Layer{{Dir: mask, Owner: own}, {Dir: v.w.Source(), Owner: own}}
	if err := mount.Overlay(filepath.Join(v.dir, seen), layers, upper, work, v.w.as); err != nil {
		return err
	}
	v.laid, v.src = true, seen
	return nil
}

// hide has the mask hide what is in a folder and no input, so many names at most.
func (v *View) hide(ctx context.Context, mask, dir string, leads map[string]bool, most *int) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	entries, err := fs.ReadDir(v.w.FS(), dir)
	if err != nil {
		return err
	}
	masked := false
	for _, e := range entries {
		at := path.Join(dir, e.Name())
		if _, is := v.inputs[at]; is {
			continue
		}
		if e.IsDir() && leads[at] {
			if err := v.hide(ctx, mask, at, leads, most); err != nil {
				return err
			}
			continue
		}
		if !masked {
			if err := os.MkdirAll(filepath.Join(mask, dir), 0o755); err != nil {
				return err
			}
			masked = true
		}
		if *most--; *most < 0 {
			return errHidesTooMuch
		}
		if err := mount.Hide(filepath.Join(mask, at)); err != nil {
			return err
		}
	}
	if dir == "." {
		return nil
	}
	return v.asBelow(mask, dir)
}

// asBelow makes a folder of the mask, if it is there, what the folder is that it lies above: it is what is seen of
// both.
func (v *View) asBelow(mask, dir string) error {
	at := filepath.Join(mask, dir)
	if _, err := os.Lstat(at); err != nil {
		return nil
	}
	info, err := v.w.Lstat(dir)
	if err != nil {
		return err
	}
	return errors.Join(os.Chmod(at, info.Mode().Perm()), v.w.as.Take(at), os.Chtimes(at, info.ModTime(), info.ModTime()))
}

// lift takes the workspace away from below it; what the step has done stays.
func (v *View) lift() error {
	if !v.laid {
		return nil
	}
	v.root.Close() // or it would be in use
	if err := mount.Unmount(filepath.Join(v.dir, seen)); err != nil {
		return err
	}
	v.laid, v.src = false, "upper"
	var err error
	v.root, err = os.OpenRoot(v.Part("src"))
	return err
}

// done lists what the step has made above its inputs. An error says what it did to them.
func (v *View) done(ctx context.Context) ([]trees.Found, error) {
	if err := v.lift(); err != nil {
		return nil, err
	}
	names, err := namesIn(v.root)
	if err != nil {
		return nil, err
	}
	scanned, err := trees.ScanLayer(ctx, v.root, names)
	if err != nil {
		return nil, err
	}
	var made []trees.Found
	there, alone := map[string]bool{}, []string{}
	for _, f := range scanned.Found {
		if !f.Gone {
			there[f.Path] = true
		}
		if f.Gone || f.Alone {
			alone = append(alone, f.Path)
		}
		in, is := v.inputs[f.Path]
		switch {
		case f.Gone:
		case is:
			same, err := v.same(f, in)
			if err != nil {
				return nil, err
			}
			if !same {
				return nil, writes(f.Path)
			}
		default:
			made = append(made, f)
		}
	}
	for _, at := range alone {
		for name := range v.inputs {
			if tree.Below(name, at) && !there[name] {
				return nil, removes(name)
			}
		}
	}
	return made, nil
}

// same tells that a file which the step has opened to write is what it was.
func (v *View) same(f, in trees.Found) (bool, error) {
	other := in.Kind != tree.Twin && (f.Kind != in.Kind || f.Mode != in.Mode) // twins have no mode of their own
	if other || f.Kind != tree.File || f.Size != in.Size {
		return false, nil
	}
	at, err := trees.FirstDifference(v.w.root, v.root, f.Path)
	return at < 0, err
}

func writes(name string) error {
	return fmt.Errorf("the step writes into %s, which is among its inputs: what it makes goes to files of its own", name)
}

func removes(name string) error {
	return fmt.Errorf("the step removes %s, which is among its inputs", name)
}

func namesIn(root *os.Root) (names []string, err error) {
	entries, err := fs.ReadDir(root.FS(), ".")
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names, err
}
