// Package artifact finds the files of a workspace that a glob names, and refuses those that are not its own.
package artifact

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// File is a match: its path in the tree and its size in bytes.
type File struct {
	Path string
	Size int64
}

// Found is what globs came to.
type Found struct {
	Files   []File   // in order of their paths, each once
	Refused []string // one sentence each: what matched and may not be taken
}

// Find walks a tree for regular files that match any of the globs (** crosses folders). Links are followed only
// when what they name is a file of the tree; the tree must refuse to leave itself, as os.Root does. A glob that
// leaves the tree is an error.
func Find(tree fs.FS, globs []string) (Found, error) {
	var found Found
	seen := map[string]bool{}
	for _, glob := range globs {
		if err := Check(glob); err != nil {
			return Found{}, err
		}
		glob = path.Clean(glob)
		base, _ := doublestar.SplitPattern(glob)
		err := fs.WalkDir(tree, base, func(name string, d fs.DirEntry, err error) error {
			if err != nil {
				if errors.Is(err, fs.ErrNotExist) {
					return nil
				}
				return err
			}
			if seen[name] || name == ".git" || !doublestar.MatchUnvalidated(glob, name) {
				if d.IsDir() && name == ".git" {
					return fs.SkipDir
				}
				return nil
			}
			found.take(tree, name, d, glob, seen)
			return nil
		})
		if err != nil {
			return Found{}, fmt.Errorf("looking for %q: %w", glob, err)
		}
	}
	sort.Slice(found.Files, func(i, j int) bool { return found.Files[i].Path < found.Files[j].Path })
	return found, nil
}

func (f *Found) take(tree fs.FS, name string, d fs.DirEntry, glob string, seen map[string]bool) {
	refuse := func(why string) { f.Refused = append(f.Refused, fmt.Sprintf("%q %s", name, why)) }
	info, err := fs.Stat(tree, name)
	isLink := d.Type()&fs.ModeSymlink != 0
	switch {
	case err != nil && isLink:
		refuse("is a link that leaves the workspace or leads nowhere")
	case err != nil:
		refuse("cannot be read: " + err.Error())
	case info.Mode().IsRegular():
		seen[name] = true
		f.Files = append(f.Files, File{Path: name, Size: info.Size()})
	case info.IsDir() && isLink:
		refuse("is a link to a folder; name the folder itself")
	case info.IsDir():
		if !strings.ContainsAny(glob, "*?[{") {
			refuse("is a folder; write " + path.Join(name, "**") + " for the files in it")
		}
	default:
		refuse("is neither a file nor a folder")
	}
}

// ErrOutside says that a glob or path leaves the workspace.
var ErrOutside = errors.New("leaves the workspace")

// Check refuses a glob that is malformed or leaves the tree.
func Check(glob string) error {
	clean := path.Clean(glob)
	if glob == "" || path.IsAbs(glob) || clean == ".." || strings.HasPrefix(clean, "../") {
		return fmt.Errorf("%q %w", glob, ErrOutside)
	}
	if !doublestar.ValidatePattern(glob) {
		return fmt.Errorf("%q is no glob", glob)
	}
	return nil
}
