package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A disk of the service that is full in the middle of a save costs nobody the build, leaves nothing half there, and the
// next save is whole.
func TestADiskThatIsFullInMidSave(t *testing.T) {
	t.Parallel()
	s := serve(t)
	blobs := filepath.Join(s.home, "blobs")
	size := func(megabytes int, flags uintptr) error {
		return syscall.Mount("small", blobs, "tmpfs", flags, fmt.Sprintf("size=%dm", megabytes))
	}
	if err := size(12, 0); err != nil {
		t.Skipf("only who may mount a file system can have a full one: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(blobs, syscall.MNT_DETACH) })
	r := s.project(t, "full", map[string]string{"lock": "1", "piston/trunk.toml": `
[trigger.push]
[job.main.cache.depot]
paths = ["depot"]
follows = ["lock"]
[[job.main.step]]
script = '''
if test -d depot; then sha256sum --quiet --check depot/sums; exit; fi
mkdir depot; for n in $(seq 30); do head -c 1000000 /dev/urandom > depot/$n; done
sha256sum depot/* > /tmp/sums; mv /tmp/sums depot/sums
'''
`})
	r.push()
	d := r.passes(1)
	use := d.Jobs[0].Caches[0]
	assert.False(t, use.Saved, asJSON(use))
	log := r.logText(1, "main")
	assert.Contains(t, log, "cache depot: not saved")
	assert.Contains(t, log, "the service's disk is full")
	left, err := filepath.Glob(filepath.Join(blobs, "packs", "*", "*"))
	require.NoError(t, err)
	for _, name := range left {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.True(t, strings.HasSuffix(string(text), "piston pack 1\n"), "%s is whole, or not there", name)
	}

	require.NoError(t, size(300, syscall.MS_REMOUNT))
	r.commit("Try again", map[string]string{"note": "1"})
	r.push()
	use = r.passes(2).Jobs[0].Caches[0]
	assert.True(t, use.Saved, asJSON(use))
	r.commit("And once more", map[string]string{"note": "2"})
	r.push()
	use = r.passes(3).Jobs[0].Caches[0]
	assert.True(t, use.Hit, asJSON(use))
}
