package process

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// NoDumps has this program and all that it starts leave no memory dumps, in which secrets would be. It cannot be taken
// back (setrlimit(2), RLIMIT_CORE).
func NoDumps() error {
	if err := unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}); err != nil {
		return fmt.Errorf("memory dumps cannot be forbidden: %w", err)
	}
	return nil
}
