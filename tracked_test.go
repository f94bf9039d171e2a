package house

import (
	"bytes"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A built program that slips into a commit stays in every clone for good.
func TestNothingBuiltIsTracked(t *testing.T) {
	out, err := exec.Command("git", "ls-files", "-z").Output()
	require.NoError(t, err)
	names := bytes.Split(bytes.TrimRight(out, "\x00"), []byte{0})
	require.Greater(t, len(names), 100)
	for _, name := range names {
		stat, err := os.Lstat(string(name))
		if os.IsNotExist(err) {
			continue // deleted, and not yet committed
		}
		require.NoError(t, err)
		assert.Less(t, stat.Size(), int64(1<<20), "%s is tracked, and larger than anything we write by hand", name)
	}
}
