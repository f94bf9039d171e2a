package workspace

import (
	"io/fs"
	"syscall"
)

// allocated is the space a file takes on disk in bytes: holes do not count.
func allocated(info fs.FileInfo) int64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return st.Blocks * 512
	}
	return info.Size()
}
