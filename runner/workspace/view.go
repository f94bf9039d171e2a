package workspace

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/runner/mount"
	"gentlepiston.example/piston/runner/trees"
)

// View is the workspace as a step sees it that says what it reads: these files, and nothing else. What it writes is in
// the view only, until its outputs are brought into the workspace.
type View struct {
	w       *Workspace
	dir     string
	src     string // the folder in it where its sources are
	laid    bool   // the workspace lies below them
	root    *os.Root
	inputs  map[string]trees.Found
	outputs []string // globs
	made    time.Time

	Outputs []trees.Found // what it has made, once that was brought
}

// Inputs lists the files and links that globs match.
func Inputs(ctx context.Context, w *Workspace, globs []string) ([]trees.Found, error) {
	var paths []string
	for _, glob := range globs {
		found, err := w.Find([]string{glob})
		switch {
		case err != nil:
			return nil, err
		case len(found.Refused) > 0:
			return nil, errors.New(found.Refused[0])
		case len(found.Files) == 0:
			return nil, fmt.Errorf("nothing matches the input %s", glob)
		}
		for _, f := range found.Files {
			paths = append(paths, f.Path)
		}
	}
	return trees.Scan(ctx, w.root, paths)
}

// NewView makes one of some inputs for step number n, which works in a folder of it.
func NewView(ctx context.Context, w *Workspace, n int, inputs []trees.Found, dir string, outputs []string) (v *View,
	err error) {
	v = &View{w: w, dir: filepath.Join(w.folder, fmt.Sprint("view-", n)), src: "src", outputs: outputs,
		inputs: map[string]trees.Found{}}
	made := v
	defer func() {
		if err != nil {
			err = errors.Join(err, made.Remove()) // or it would still be mounted
		}
	}()
	if err := disk.RemoveAll(v.dir); err != nil {
		return nil, err
	}
	for _, part := range []string{"", "src", "home", "tmp"} {
		at := filepath.Join(v.dir, part)
		if err := errors.Join(os.MkdirAll(at, 0o755), w.as.Take(at)); err != nil {
			return nil, err
		}
	}
	var roots []string
	for _, f := range inputs {
		v.inputs[f.Path], roots = f, append(roots, f.Path)
	}
	if !mount.Apart() || v.lay(ctx) != nil {
		b := &trees.Builder{Tree: trees.Tree(trees.Roots(roots), inputs), Into: v.Part("src"), As: w.as}
		if err := b.Copy(ctx, w.root, inputs); err != nil {
			return nil, err
		}
	}
	if v.root, err = os.OpenRoot(v.Part("src")); err != nil {
		return nil, err
	}
	if err := makeFolder(v.root, w.as, path.Clean(dir)); err != nil {
		return nil, err
	}
	v.made = time.Now()
	return v, nil
}

// Part is where sources, home or temporary files of it are.
func (v *View) Part(name string) string {
	if name == "src" {
		name = v.src
	}
	return filepath.Join(v.dir, name)
}

// Root is its sources.
func (v *View) Root() *os.Root { return v.root }

// Place writes a secret's file into it; it goes with the view.
func (v *View) Place(at string, value []byte) error {
	_, err := place(v.root, v.w.as, at, value)
	delete(v.inputs, at)
	return err
}

// Remove removes it.
func (v *View) Remove() error {
	if err := v.lift(); err != nil {
		return err
	}
	if v.root != nil {
		v.root.Close()
	}
	return disk.RemoveAll(v.dir)
}

// Harvest brings what the step has made into the workspace. An error says what it did that it may not.
func (v *View) Harvest(ctx context.Context) error {
	list := v.doneToCopies
	if v.laid {
		list = v.done
	}
	made, err := list(ctx)
	if err != nil {
		return err
	}
	var roots []string
	for _, f := range made {
		if v.isOutput(f.Path) && f.Kind != tree.Folder && !tree.OfGit(f.Path) {
			v.Outputs, roots = append(v.Outputs, f), append(roots, f.Path)
		}
	}
	return v.w.Put(ctx, v.root, roots, v.Outputs)
}

// doneToCopies lists what the step has made beside copies of its inputs. An error says what it did to these.
func (v *View) doneToCopies(ctx context.Context) (made []trees.Found, err error) {
	names, err := namesIn(v.root)
	if err != nil {
		return nil, err
	}
	found, err := trees.Scan(ctx, v.root, names)
	if err != nil {
		return nil, err
	}
	there := map[string]bool{}
	for _, f := range found {
		there[f.Path] = true
		in, is := v.inputs[f.Path]
		switch {
		case !is:
			made = append(made, f)
		case f.Kind != in.Kind || f.Size != in.Size || f.Changed > v.made.UnixNano() && f.Kind == tree.File:
			return nil, writes(f.Path)
		}
	}
	for name := range v.inputs {
		if !there[name] {
			return nil, removes(name)
		}
	}
	return made, nil
}

func (v *View) isOutput(name string) bool {
	return slices.ContainsFunc(v.outputs, func(glob string) bool {
		return doublestar.MatchUnvalidated(path.Clean(glob), name)
	})
}

// Put copies files from elsewhere to the same paths of the workspace, whatever is there.
func (w *Workspace) Put(ctx context.Context, from *os.Root, roots []string, found []trees.Found) error {
	for _, root := range roots {
		if err := w.LeadTo(path.Dir(root)); err != nil {
			return err
		}
	}
	w.Clear(roots)
	b := &trees.Builder{Tree: trees.Tree(trees.Roots(roots), found), Into: w.Source(), As: w.as}
	return b.Copy(ctx, from, found)
}
