package workspace

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"io/fs"
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// lettersLooked is how many files are looked at for one that is meant.
const lettersLooked = 50_000

// InOtherLetters finds a file that globs would match if they did not tell capitals from small letters; "" when there is
// none.
func InOtherLetters(tree fs.FS, globs []string) (found string) {
	n := 0
	_ = fs.WalkDir(tree, ".", func(name string, d fs.DirEntry, err error) error {
		if n++; n > lettersLooked || name == ".git" {
			return fs.SkipDir
		}
		if err != nil || d.IsDir() {
			return nil
		}
		for _, glob := range globs {
			if doublestar.MatchUnvalidated(strings.ToLower(path.Clean(glob)), strings.ToLower(name)) {
				found = name
				return fs.SkipAll
			}
		}
		return nil
	})
	return found
}

// Named finds the file of the workspace that a program means by a name: from the top, from a folder, or the only one of
// that name, among so many; "" when there is none.
func Named(tree fs.FS, name, dir string, among int) (found string) {
	name = path.Clean(name)
	if !fs.ValidPath(name) || !strings.Contains(name, ".") {
		return "" // any word could be one
	}
	for _, at := range []string{path.Join(dir, name), name} {
		if info, err := fs.Stat(tree, at); err == nil && !info.IsDir() {
			return at
		}
	}
	n, several := 0, false
	_ = fs.WalkDir(tree, ".", func(at string, d fs.DirEntry, err error) error {
		if n++; n > among || at == ".git" {
			return fs.SkipDir
		}
		if err == nil && !d.IsDir() && strings.HasSuffix("/"+at, "/"+name) {
			several, found = found != "", at
		}
		if several {
			return fs.SkipAll
		}
		return nil
	})
	if several {
		return ""
	}
	return found
}

// Digest is the SHA-256 of a file, in hexadecimal.
func (w *Workspace) Digest(ctx context.Context, name string) (string, error) {
	f, err := w.root.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, withContext{ctx, f}); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// withContext is a reader that ends with a context.
type withContext struct {
	ctx context.Context
	r   io.Reader
}

func (r withContext) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.r.Read(p)
}
