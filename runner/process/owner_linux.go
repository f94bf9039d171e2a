package process

import (
	"io/fs"
	"syscall"
)

// OwnerOf is the number of the user whose a file is; -1 when the system does not say.
func OwnerOf(info fs.FileInfo) int {
	if st, is := info.Sys().(*syscall.Stat_t); is {
		return int(st.Uid)
	}
	return -1
}
