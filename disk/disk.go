// Package disk tells how full the disk is that a folder is on.
package disk

import "golang.org/x/sys/unix"

// Space is what the file system of a folder has, in bytes.
type Space struct {
	Free  int64 // to be had by whoever is no administrator of the machine
	Total int64
}

// Of asks the file system that a folder is in (statvfs(3)).
func Of(dir string) (Space, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return Space{}, err
	}
	block := int64(st.Bsize)
	return Space{Free: int64(st.Bavail) * block, Total: int64(st.Blocks) * block}, nil
}
