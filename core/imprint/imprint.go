// Package imprint identifies things by content: the files a cache follows, and the cache they lead to.
package imprint

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sort"

	"gentlepiston.example/piston/core/artifact"
)

// Content is the SHA-256 of the followed files: their names and bytes.
type Content [sha256.Size]byte

// CacheKey names one saved copy of a cache. It is not a Content, so that one cannot be taken for the other.
type CacheKey string

// ErrNothingFollowed says that no file matched.
var ErrNothingFollowed = errors.New("no file matches")

// Files hashes the files of a tree that match any of the globs, in the order of their names.
// It returns the names too; ErrNothingFollowed when a glob matches nothing.
func Files(tree fs.FS, globs []string) (Content, []string, error) {
	set := map[string]bool{}
	for _, glob := range globs {
		found, err := artifact.Find(tree, []string{glob})
		if err != nil {
			return Content{}, nil, err
		}
		if len(found.Files) == 0 {
			return Content{}, nil, fmt.Errorf("%w %q", ErrNothingFollowed, glob)
		}
		for _, f := range found.Files {
			set[f.Path] = true
		}
	}
	names := make([]string, 0, len(set))
	for name := range set {
		names = append(names, name)
	}
	sort.Strings(names)
	all := sha256.New()
	for _, name := range names {
		one, err := file(tree, name)
		if err != nil {
			return Content{}, nil, err
		}
		// Lengths go in too, so that no two lists of files give the same bytes.
		fmt.Fprintf(all, "%d:%s%x", len(name), name, one)
	}
	return Content(all.Sum(nil)), names, nil
}

func file(tree fs.FS, name string) ([]byte, error) {
	f, err := tree.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return nil, err
	}
	return h.Sum(nil), nil
}

// Key derives the key of a cache: its name, its paths, the platform (such as "linux/amd64") and what it follows.
func Key(name string, paths []string, platform string, followed Content) CacheKey {
	text, err := json.Marshal([]any{"cache 1", name, paths, platform, hex.EncodeToString(followed[:])})
	if err != nil {
		panic(err) // strings always marshal
	}
	sum := sha256.Sum256(text)
	return CacheKey(hex.EncodeToString(sum[:]))
}

// Short is the first characters of a key, enough for a person to tell two apart.
func (k CacheKey) Short() string { return string(k[:min(12, len(k))]) }
