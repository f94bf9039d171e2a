package definition

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

func (v *validator) globs(globs []string, at ...string) {
	for i, glob := range globs {
		v.pattern(glob, append(append([]string(nil), at...), strconv.Itoa(i))...)
	}
}

// glob checks a pattern of workspace files.
func (v *validator) glob(glob string, at ...string) {
	if v.relative(glob, at...) {
		v.pattern(glob, at...)
	}
}

// Matching tries every way through braces and double stars, so there can only be few.
const (
	maxGlob        = 4 << 10
	maxGlobBraces  = 3
	maxGlobChoices = 16
	maxGlobStars   = 8
)

// pattern checks a glob.
func (v *validator) pattern(glob string, at ...string) {
	switch {
	case glob == "" || !doublestar.ValidatePattern(glob):
		v.add("bad-glob", fmt.Sprintf("%.200q is no glob", glob), "Check brackets and braces; ** crosses slashes.", at...)
	case len(glob) > maxGlob || strings.Count(glob, "{") > maxGlobBraces || strings.Count(glob, ",") > maxGlobChoices ||
		strings.Count(glob, "**") > maxGlobStars:
		v.add("bad-glob", fmt.Sprintf("the glob %.60q… asks for too much", glob),
			fmt.Sprintf("It may have %d bytes, %d braces, %d commas and %d double stars; write several.",
				maxGlob, maxGlobBraces, maxGlobChoices, maxGlobStars), at...)
	}
}

// relative checks a path that must stay in the workspace.
func (v *validator) relative(p string, at ...string) bool {
	clean := path.Clean(p)
	switch {
	case p == "":
		v.add("bad-path", "the path is empty", "Name a file or folder of the repository.", at...)
	case path.IsAbs(p):
		v.add("bad-path", fmt.Sprintf("%q begins at the root of the machine", p),
			"Use a path from the top of the repository.", at...)
	case clean == ".." || strings.HasPrefix(clean, "../"):
		v.add("bad-path", fmt.Sprintf("%q leaves the workspace", p), "Use a path inside the repository.", at...)
	case strings.ContainsAny(p, "\x00\n"):
		v.add("bad-path", "the path holds a NUL or a line break", "Remove it.", at...)
	case clean == ".git" || strings.HasPrefix(clean, ".git/"):
		v.add("bad-path", fmt.Sprintf("%q is in the repository's own .git folder", p), "Use a path of the work tree.", at...)
	default:
		return true
	}
	return false
}
