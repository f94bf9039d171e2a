// Package mount lets a runner put saved folders into a workspace without copying them: an overlay, in which what was
// saved lies below and is only read, and what the job does lies above. It costs the same for a megabyte and for a
// hundred gigabytes.
//
// A runner that mounts is apart: in a mount namespace of its own, which as an ordinary user is in a user namespace of
// its own, too. All that was mounted is gone when its last process is, however that ended. Where that cannot be had,
// folders are copied.
package mount

import "strings"

// Layer is what lies below: a folder, and which host user its files are of.
type Layer struct {
	Dir   string
	Owner int // -1 for the runner's own
}

// escape writes a path where commas and colons end it (mount(8), overlay).
func escape(path string) string {
	return strings.NewReplacer(`\`, `\\`, ":", `\:`, ",", `\,`).Replace(path)
}
