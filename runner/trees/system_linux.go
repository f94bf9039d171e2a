package trees

import (
	"os"

	"golang.org/x/sys/unix"
)

func changed(st *unix.Stat_t) unix.Timespec  { return st.Ctim }
func modified(st *unix.Stat_t) unix.Timespec { return st.Mtim }

// opener opens what is below a root.
type opener struct{ top *os.File }

func newOpener(root *os.Root) (*opener, error) {
	top, err := root.Open(".")
	return &opener{top}, err
}

func (o *opener) close() { o.top.Close() }

// open opens a file or folder in one call; no link on the way is followed (openat2(2)), and a pipe in a file's place
// does not hold it up.
func (o *opener) open(path string, folder bool) (*os.File, error) {
	how := unix.OpenHow{Flags: unix.O_RDONLY | unix.O_NOFOLLOW | unix.O_NONBLOCK | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS}
	if folder {
		how.Flags |= unix.O_DIRECTORY
	}
	fd, err := unix.Openat2(int(o.top.Fd()), path, &how)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: path, Err: err}
	}
	return os.NewFile(uintptr(fd), path), nil
}

// opaque tells whether a folder of a layer hides what is in those below it. As root overlayfs writes one attribute,
// in a user namespace the other.
func opaque(fd int) bool {
	var value [1]byte
	for _, name := range []string{"trusted.overlay.opaque", "user.overlay.opaque"} {
		if n, err := unix.Fgetxattr(fd, name, value[:]); err == nil && n == 1 && value[0] == 'y' {
			return true
		}
	}
	return false
}

// cloneFile has a file share another's blocks where the file system can (ioctl_ficlonerange(2)).
func cloneFile(to, from *os.File) bool {
	return unix.IoctlFileClone(int(to.Fd()), int(from.Fd())) == nil
}
