package runner

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/state"
)

// A disk that is full while a commit comes, or soon after, fails the job with a word of it; nothing is left behind.
func TestADiskThatIsFullIsSaid(t *testing.T) {
	failed := 0
	for kilobytes := 4; kilobytes <= 512; kilobytes *= 2 {
		f := execute(t, func(_ *api.Work, _ *fakeService, r *Runner) {
			work := filepath.Join(r.place, "work")
			if err := syscall.Mount("small", work, "tmpfs", 0, fmt.Sprintf("size=%dk", kilobytes)); err != nil {
				t.Skipf("only who may mount a file system can have a full one: %v", err)
			}
			t.Cleanup(func() { _ = syscall.Unmount(work, syscall.MNT_DETACH) })
			require.NoError(t, os.Chmod(work, 0o711))
		}, &definition.Step{Name: "fill", Script: "dd if=/dev/zero of=filled bs=1k count=600"})
		require.NotNil(t, f.finish, "%d kB", kilobytes)
		assert.Equal(t, state.Failed, f.finish.State, "%d kB", kilobytes)
		if len(f.steps) == 0 {
			failed++
			assert.Regexp(t, "(?i)no space|disk", f.finish.Reason, "%d kB", kilobytes)
		}
	}
	assert.Positive(t, failed)
}
