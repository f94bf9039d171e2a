package trees

import (
	"os"

	"golang.org/x/sys/unix"
)

func changed(st *unix.Stat_t) unix.Timespec  { return st.Ctim }
func modified(st *unix.Stat_t) unix.Timespec { return st.Mtim }

// opener opens what is below a root.
type opener struct{ root *os.Root }

func newOpener(root *os.Root) (*opener, error) { return &opener{root}, nil }

func (*opener) close() {}

// open opens a file or folder; no link on the way is followed out of the root.
func (o *opener) open(path string, folder bool) (*os.File, error) {
	flags := os.O_RDONLY | unix.O_NONBLOCK
	if folder {
		flags |= unix.O_DIRECTORY
	}
	return o.root.OpenFile(path, flags, 0)
}

// opaque: there are no layers here.
func opaque(int) bool { return false }

// cloneFile has a file share another's blocks. A clone is made under a new name, so nothing is to be done here.
func cloneFile(_, _ *os.File) bool { return false }
