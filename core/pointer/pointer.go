// Package pointer reads the small texts by which a repository speaks of large files that are kept beside it (Git LFS
// specification, The Pointer).
package pointer

import (
	"encoding/hex"
	"strconv"
	"strings"
)

// Pointer says what a large file is.
type Pointer struct {
	ID   string // SHA-256 of its content, in 64 lower-case hexadecimal digits
	Size int64  // bytes
}

// Max is the most bytes of a pointer.
const Max = 1024

// version begins every pointer.
const version = "version https://git-lfs.github.com/spec/"

// Is tells whether a text is meant as a pointer, right or not.
func Is(text string) bool { return strings.HasPrefix(text, version) }

// IsID tells whether a text is what Pointer.ID may be.
func IsID(text string) bool {
	_, err := hex.DecodeString(text)
	return err == nil && len(text) == 64 && strings.ToLower(text) == text
}

// Parse reads a pointer. One with extensions, whose file is not what its id says, is none that can be read.
func Parse(text string) (p Pointer, ok bool) {
	if !Is(text) || len(text) >= Max {
		return p, false
	}
	for line := range strings.Lines(text) {
		key, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		switch key {
		case "version":
		case "oid":
			p.ID, ok = strings.CutPrefix(value, "sha256:")
			if !ok || !IsID(p.ID) {
				return Pointer{}, false
			}
		case "size":
			size, err := strconv.ParseInt(value, 10, 64)
			if err != nil || size < 0 {
				return Pointer{}, false
			}
			p.Size = size
		default:
			return Pointer{}, false
		}
	}
	return p, p.ID != ""
}
