//go:build !linux

package workspace

import "io/fs"

// allocated takes a file's size for what it takes on disk.
func allocated(info fs.FileInfo) int64 { return info.Size() }
