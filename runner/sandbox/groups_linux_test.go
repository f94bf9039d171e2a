package sandbox

import (
	"bytes"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/definition"
)

func TestWhereControlGroupsAre(t *testing.T) {
	v1, err := placeGroups("5:memory:/app/x\n4:pids:/app/x\n0::/\n", "30 1 0:1 / /sys/fs/cgroup/memory rw - cgroup cgroup rw,memory\n31 1 0:2 /app /sys/fs/cgroup/pids rw shared:1 - cgroup cgroup rw,pids\n32 1 0:3 / /sys/fs/cgroup/unified rw - cgroup2 cgroup2 rw\n")
	require.NoError(t, err)
	assert.Equal(t, &groups{memory: "/sys/fs/cgroup/memory/app/x", pids: "/sys/fs/cgroup/pids/x"}, v1)
	v2, err := placeGroups("0::/system.slice/piston.service\n", "25 1 0:22 / /sys/fs/cgroup rw,nosuid - cgroup2 cgroup2 rw,nsdelegate\n")
	require.NoError(t, err)
	at := "/sys/fs/cgroup/system.slice/piston.service"
	assert.Equal(t, &groups{memory: at, pids: at, v2: true, top: "/sys/fs/cgroup"}, v2)
	_, err = placeGroups("", "1 1 0:1 / / rw - ext4 /dev/x rw\n")
	assert.ErrorContains(t, err, "none are mounted")
}

// Whichever version this machine has, where it lets us make groups.
func TestAGroupHoldsItsProcesses(t *testing.T) {
	var said strings.Builder
	g := findGroups(slog.New(slog.NewTextHandler(&said, nil)))
	if g == nil {
		t.Skip(said.String())
	}
	limits := definition.Numbers{Memory: 48 << 20, Processes: 16}
	made, err := g.make("held", limits.Memory, limits.Processes)
	require.NoError(t, err)
	require.NoError(t, made.open())
	b := &Box{Machine: &Machine{}, group: made}
	require.NoError(t, b.openLaunchers())
	ours := "1" // of version 1 a thread of ours is in the group
	if g.v2 {
		ours = "0"
	}
	run := func(script string) (text, met string) {
		var out bytes.Buffer
		before := made.counts()
		cmd := exec.CommandContext(t.Context(), "/bin/sh", "-c", script)
		cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = &out, &out, &syscall.SysProcAttr{}
		require.NoError(t, b.start(cmd, false))
		_ = cmd.Wait() // how it ended is up to what it could not do
		assert.Eventually(t, func() bool {
			n, err := os.ReadFile(filepath.Join(made.pids, "pids.current"))
			return err == nil && strings.TrimSpace(string(n)) == ours
		}, 10*time.Second, 10*time.Millisecond, "its processes end")
		return out.String(), made.counts().Since(before, limits)
	}
	born, met := run("cat /proc/self/cgroup")
	assert.Contains(t, born, filepath.Base(made.folders()[0]), "a process is in the group from its birth")
	assert.Empty(t, met)
	_, met = run("for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18; do sleep 0.3 & done; wait")
	assert.Contains(t, met, "limit of processes is reached: 16")
	_, met = run("head -c 200000000 /dev/zero | tail -c 150000000 | wc -c") // tail holds what it may have to print
	assert.Contains(t, met, "limit of memory is reached: 50.3 MB")
	_, met = run("echo on")
	assert.Empty(t, met, "what was met before is not told again")
	folders := made.folders()
	b.closeLaunchers()
	made.close()
	for _, dir := range folders {
		assert.NoDirExists(t, dir)
	}
}

// The files of version 2, in a folder that looks like one.
func TestAGroupOfVersionTwo(t *testing.T) {
	top := t.TempDir()
	g := &groups{memory: top, pids: top, v2: true}
	require.NoError(t, os.Mkdir(filepath.Join(top, "seen"), 0o755))
	made, err := g.make("7", 50e6, 40)
	require.NoError(t, err)
	for file, want := range map[string]string{"memory.max": "50000000", "pids.max": "40", "memory.swap.max": "0"} {
		text, err := os.ReadFile(filepath.Join(made.memory, file))
		require.NoError(t, err)
		assert.Equal(t, want, string(text), file)
	}
	assert.Equal(t, []string{made.memory}, made.folders())
	before := made.counts()
	require.NoError(t, os.WriteFile(filepath.Join(made.memory, "memory.events"), []byte("low 0\noom 2\noom_kill 1\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(made.memory, "pids.events"), []byte("max 0\n"), 0o644))
	assert.Contains(t, made.counts().Since(before, definition.Numbers{Memory: 50e6}), "limit of memory is reached: 50.0 MB")
}

// Were the process's main thread in a group, the kernel might take the runner for what is over the limit.
func TestTheMainThreadStaysOutOfGroups(t *testing.T) {
	g := findGroups(nil)
	if g == nil || g.v2 {
		t.Skip("there is no control group of version 1 to be had, and in version 2 no thread of ours enters one")
	}
	for n := range 60 {
		made, err := g.make(fmt.Sprint("main-", n), 64<<20, 16)
		require.NoError(t, err)
		l, err := newLauncher(made.enter)
		require.NoError(t, err)
		threads, err := os.ReadFile(filepath.Join(made.pids, "tasks"))
		require.NoError(t, err)
		assert.NotEmpty(t, threads)
		assert.NotContains(t, strings.Fields(string(threads)), fmt.Sprint(os.Getpid()))
		l.close()
		made.close()
		assert.NoDirExists(t, made.pids)
	}
}
