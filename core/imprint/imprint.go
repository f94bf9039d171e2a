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
	"maps"
	"slices"

	"gentlepiston.example/piston/core/artifact"
)

// Content is the SHA-256 of the followed files: their names and bytes.
type Content [sha256.Size]byte

// CacheKey names one saved copy of a cache. It is not a Content, so that one cannot be taken for the other.
type CacheKey string

// ErrNothingFollowed says that no file matched.
var ErrNothingFollowed = errors.New("no file matches")

// Files hashes the files of a tree that match any of the globs, in the order of their names.
// It returns the sum of each, in hexadecimal, too; ErrNothingFollowed when a glob matches nothing.
func Files(tree fs.FS, globs []string) (Content, map[string]string, error) {
	sums := map[string]string{}
	for _, glob := range globs {
		found, err := artifact.Find(tree, []string{glob})
		if err != nil {
			return Content{}, nil, err
		}
		if len(found.Files) == 0 {
			return Content{}, nil, fmt.Errorf("%w %q", ErrNothingFollowed, glob)
		}
		for _, f := range found.Files {
			sums[f.Path] = ""
		}
	}
	all := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		one, err := file(tree, name)
		if err != nil {
			return Content{}, nil, err
		}
		// Lengths go in too, so that no two lists of files give the same bytes.
		fmt.Fprintf(all, "%d:%s%x", len(name), name, one)
		sums[name] = hex.EncodeToString(one)
	}
	return Content(all.Sum(nil)), sums, nil
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

// Shape is the same for saved copies that may stand for each other: those of a cache with the same name, paths and
// platform (such as "linux/amd64").
func Shape(name string, paths []string, platform string) string {
	return sum("cache shape 1", name, paths, platform)
}

// Key derives the key of a cache: its shape, and what it follows.
func Key(shape string, followed Content) CacheKey {
	return CacheKey(sum("cache 2", shape, hex.EncodeToString(followed[:])))
}

// Differs names what is not the same in two lists of sums.
func Differs(before, after map[string]string) []string {
	list := []string{}
	for name, sum := range after {
		if was, has := before[name]; !has || was != sum {
			list = append(list, name)
		}
	}
	for name := range before {
		if _, has := after[name]; !has {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list
}

// sum is the SHA-256 of values that JSON can write, in hexadecimal.
func sum(values ...any) string {
	text, err := json.Marshal(values)
	if err != nil {
		panic(err) // strings always marshal
	}
	of := sha256.Sum256(text)
	return hex.EncodeToString(of[:])
}

// Short is the first characters of a key, enough for a person to tell two apart.
func (k CacheKey) Short() string { return string(k[:min(12, len(k))]) }
