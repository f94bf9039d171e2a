package e2e

import (
	"bufio"
	"bytes"
	"crypto/rsa"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/local/testdb"
)

// traces are a secret number in the forms in which it would lie about: its bytes, from both ends, as words in memory
// have them, and as texts. A part of it is enough to be found by.
func traces(n *big.Int) (list [][]byte) {
	whole := n.Bytes()
	part := whole[16:48]
	turned := make([]byte, len(part))
	for i, b := range part {
		turned[len(part)-1-i] = b
	}
	list = append(list, part, turned, []byte(hex.EncodeToString(part)), []byte(n.Text(10)[20:60]))
	for shift := range 3 { // base64 tells three bytes at a time
		list = append(list, []byte(base64.StdEncoding.EncodeToString(whole[15+shift:45+shift])))
	}
	return list
}

func holds(b []byte, all [][]byte) bool {
	for _, one := range all {
		if bytes.Contains(b, one) {
			return true
		}
	}
	return false
}

// inMemory tells whether a process's memory holds one of the traces.
func inMemory(t *testing.T, pid int, all [][]byte) bool {
	maps, err := os.ReadFile(fmt.Sprintf("/proc/%d/maps", pid))
	require.NoError(t, err)
	mem, err := os.Open(fmt.Sprintf("/proc/%d/mem", pid))
	require.NoError(t, err)
	defer mem.Close()
	read := int64(0)
	for lines := bufio.NewScanner(bytes.NewReader(maps)); lines.Scan(); {
		words := strings.Fields(lines.Text())
		if !strings.HasPrefix(words[1], "rw") {
			continue
		}
		from, to, _ := strings.Cut(words[0], "-")
		start, err := strconv.ParseUint(from, 16, 64)
		require.NoError(t, err)
		end, err := strconv.ParseUint(to, 16, 64)
		require.NoError(t, err)
		for at := start; at < end; at += 4 << 20 {
			b := make([]byte, min(4<<20+512, end-at))
			n, _ := mem.ReadAt(b, int64(at)) // what is not there cannot be read, and holds nothing
			if read += int64(n); holds(b[:n], all) {
				return true
			}
		}
	}
	require.Greater(t, read, int64(1<<20), "the memory was read")
	return false
}

// childOf is the process that another has started with a word among its arguments.
func childOf(t *testing.T, pid int, word string) int {
	out, err := exec.Command("pgrep", "-P", strconv.Itoa(pid), "-f", word).Output()
	require.NoError(t, err)
	child, err := strconv.Atoi(strings.Fields(string(out))[0])
	require.NoError(t, err)
	return child
}

// TestAKeyLeavesTheServiceNowhere signs by a run, and then looks for the key in the runner's memory, on its disk, in
// logs, blobs and a dump of the database. That it is found where it has to be, in the service's memory, shows that
// this would find it.
func TestAKeyLeavesTheServiceNowhere(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root reads the memory of others")
	}
	dsn := testdb.New(t)
	s := serve(t, "--database", dsn)
	apk, err := os.ReadFile("../core/appfile/testdata/signed.apk")
	require.NoError(t, err)
	r := s.project(t, "keys", map[string]string{"tide.apk": string(apk), "piston/trunk.toml": `
[trigger.push]
[[job.main.step]]
sign = { files = ["tide.apk"], into = "out" }
[job.main.keep.packages]
files = ["out/*"]
`})
	file, password := keyFile(t, t.TempDir())
	out, code := s.piston(t, password+"\n", "identity", "take", "keys", "play", file, "--platform", "android")
	require.Zero(t, code, out)
	r.push()
	run := r.passes(1)
	require.Len(t, run.Artifacts, 1)

	data, err := os.ReadFile(file)
	require.NoError(t, err)
	key, err := identity.Import(identity.File{Data: data, Password: password})
	require.NoError(t, err)
	private := key.Key.(*rsa.PrivateKey)
	all := append(traces(private.D), traces(private.Primes[0])...)
	all = append(all, traces(private.Primes[1])...)

	assert.True(t, inMemory(t, s.cmd.Process.Pid, all), "the service has it, and this search finds it")
	assert.False(t, inMemory(t, childOf(t, s.cmd.Process.Pid, "runner"), all), "the runner's memory")
	read := 0
	require.NoError(t, filepath.WalkDir(s.home, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return nil // what a server at work has removed meanwhile
		}
		b, err := os.ReadFile(path)
		if err == nil {
			read++
			assert.False(t, holds(b, all), path)
		}
		return nil
	}))
	assert.Greater(t, read, 20)
	assert.False(t, holds([]byte(s.log.String()), all), "the server's log")
	assert.False(t, holds([]byte(r.logText(1, "main")), all), "the run's log")
	dump := dumpOf(t, dsn)
	assert.Contains(t, string(dump), "identity_revisions")
	assert.False(t, holds(dump, all), "a dump of the database")
	for _, raw := range unhexed(string(dump)) {
		assert.False(t, holds(raw, all), "bytes in a dump of the database")
	}
}

// unhexed are the bytes columns of a dump.
func unhexed(dump string) (list [][]byte) {
	for _, part := range strings.Split(dump, `\x`)[1:] {
		n := 0
		for n < len(part) && strings.IndexByte("0123456789abcdef", part[n]) >= 0 {
			n++
		}
		if raw, err := hex.DecodeString(part[:n&^1]); err == nil {
			list = append(list, raw)
		}
	}
	return list
}
