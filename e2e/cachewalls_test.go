package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// odd leaves behind what no cache should trip over, and the next time looks for what should be there.
const odd = `
[trigger.push]
[job.main.cache.depot]
paths = ["depot", "lone", "socket", "nowhere", "a/link/below"]
follows = ["lock"]
[[job.main.step]]
shell = "bash"
script = '''
if test -e depot/full; then
    test "$(cat lone)" = one; test ! -e socket; test -e "$(printf 'depot/\xff\xfe name')"; test "$(readlink depot/out)" = /etc/passwd
    test "$(stat -c %a depot/shut)" = 500; test depot/twin -ef depot/full; test "$(stat -c %Y depot/full)" = 86400
    test $(stat -c %b depot/holes) -lt 100 -a $(stat -c %s depot/holes) = 50000000; test $(ls depot/many | wc -l) = 20000
    test "$(stat -c %a depot/run)" = 755
    umount depot 2>&1 && exit 3; mount -t tmpfs x depot 2>&1 && exit 4
    rm -rf depot lone; mkdir depot; echo new > depot/only
    exit 0
fi
if test -e depot/only; then ls -A depot | grep -qx only; test ! -e lone; exit 0; fi
mkdir -p depot/many depot/shut a/real; echo full > depot/full; ln depot/full depot/twin; touch -d @86400 depot/full
ln -s /etc/passwd depot/out; touch "$(printf 'depot/\xff\xfe name')"; truncate -s 50000000 depot/holes; mkfifo depot/pipe
printf '#!/bin/sh\n' > depot/run; chmod 755 depot/run
echo one > lone; ln -s /etc a/link; (cd depot/many && seq 20000 | xargs touch); chmod 500 depot/shut
python3 -c 'import socket; s = socket.socket(socket.AF_UNIX); s.bind("socket")' || mkfifo socket
(sleep 300 < depot/full > /dev/null 2>&1 &)
'''
`

func TestOddFoldersAreSavedAndRestored(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "odd", map[string]string{"lock": "1", "piston/trunk.toml": odd})
	r.push()
	d := r.passes(1)
	require.Len(t, d.Jobs[0].Caches, 1)
	assert.True(t, d.Jobs[0].Caches[0].Saved, asJSON(d.Jobs[0].Caches))
	assert.Contains(t, r.logText(1, "main"), "saved")

	r.commit("Follow another lock", map[string]string{"lock": "2"})
	r.push()
	d = r.run(2, true)
	assert.Equal(t, state.Passed, d.State, "%s", r.logText(2, "main"))
	use := d.Jobs[0].Caches[0]
	assert.True(t, use.Nearest, asJSON(use))
	assert.Equal(t, []string{"lock"}, use.Differs)
	log := r.logText(2, "main")
	assert.Contains(t, log, "miss")
	assert.Contains(t, log, "since lock differs; the nearest is the copy of run 1 on main")
	assert.Contains(t, log, "mounted", "as root and as an ordinary user")

	r.commit("Change nothing that it follows", map[string]string{"other": "x"})
	r.push()
	d = r.passes(3)
	assert.True(t, d.Jobs[0].Caches[0].Hit, "%s", r.logText(3, "main"))
}

// The service keeps all that a new runner needs, and tells when that is damaged.
func TestARunnerThatHasNothingFetchesIt(t *testing.T) {
	s := serve(t, "--slots", "1")
	r := s.project(t, "fetch", map[string]string{"lock": "1", "piston/trunk.toml": odd})
	r.push()
	r.passes(1)
	forget := func() {
		s.stop(t)
		for _, dir := range []string{filepath.Join(s.home, "runner", "tier"), s.workFolder(t, "tier")} {
			require.NoError(t, os.RemoveAll(dir))
		}
		s.start(t)
	}
	forget()
	r.commit("Follow another lock", map[string]string{"lock": "2"})
	r.push()
	d := r.run(2, true)
	assert.Equal(t, state.Passed, d.State, "%s", r.logText(2, "main"))
	assert.False(t, d.Jobs[0].Caches[0].Here)
	assert.Contains(t, r.logText(2, "main"), "fetched in")

	packs, err := filepath.Glob(filepath.Join(s.home, "blobs", "packs", "*", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	for n, harm := range []func(file string) error{
		func(file string) error {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			text[3] ^= 1
			return os.WriteFile(file, text, 0o600)
		}, os.Remove} {
		forget()
		packs, err := filepath.Glob(filepath.Join(s.home, "blobs", "packs", "*", "*"))
		require.NoError(t, err)
		for _, file := range packs {
			require.NoError(t, harm(file))
		}
		r.commit("Try again", map[string]string{"again": string(rune('a' + n))})
		r.push()
		d = r.run(record.RunNumber(3+n), true)
		assert.Equal(t, state.Passed, d.State, "a damaged copy fails no job: %s", r.logText(d.Number, "main"))
		use := d.Jobs[0].Caches[0]
		assert.False(t, use.Hit || use.Nearest, asJSON(use))
		assert.True(t, use.Saved, "and is made anew: %s", asJSON(use))
		assert.Contains(t, r.logText(d.Number, "main"), "is given up")
	}
	r.commit("And again", map[string]string{"again": "z"})
	r.push()
	assert.True(t, r.passes(5).Jobs[0].Caches[0].Hit)
}

// workFolder is a folder of where the server's runner works, which root's is elsewhere than its home.
func (s *server) workFolder(t *testing.T, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(s.home, "runner", "work.folder"))
	if os.IsNotExist(err) {
		return filepath.Join(s.home, "runner", name)
	}
	require.NoError(t, err)
	return filepath.Join(strings.TrimSpace(string(text)), name)
}
