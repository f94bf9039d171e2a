package runner

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// group is the processes of one job's steps.
type group struct {
	memory, pids string // folders; "" none
	v2           bool
	folder       *os.File    // of version 2, into which processes are born (clone3(2), CLONE_INTO_CGROUP)
	births       chan *birth // of version 1: done by a thread that is in the group
}

// birth is a process to start.
type birth struct {
	cmd  *exec.Cmd
	done chan error
}

// open prepares the group for processes. To move a process into a group that exists takes the kernel up to tens of
// milliseconds; to be born there takes none, so that is paid once for a job and not for each step.
func (g *group) open() (err error) {
	if g.v2 {
		g.folder, err = os.Open(g.memory)
		return err
	}
	g.births = make(chan *birth)
	entered := make(chan error)
	go g.giveBirth(entered)
	return <-entered
}

// giveBirth enters the group with a thread of its own, says so, and starts processes.
func (g *group) giveBirth(entered chan<- error) {
	runtime.LockOSThread() // and never unlocked: the thread, which is in the group, ends with this
	if unix.Gettid() == unix.Getpid() {
		// The main thread ends with the process only: it would stay in the group, and be first among those the kernel may
		// kill for want of memory there. While it is held here another is taken.
		inner := make(chan error)
		go g.giveBirth(inner)
		err := <-inner
		runtime.UnlockOSThread()
		entered <- err
		return
	}
	for _, dir := range g.folders() {
		if err := os.WriteFile(filepath.Join(dir, "tasks"), []byte(strconv.Itoa(unix.Gettid())), 0); err != nil {
			entered <- err
			return
		}
	}
	entered <- nil
	for b := range g.births {
		b.done <- b.cmd.Start()
	}
}

// start starts a process in the group.
func (g *group) start(cmd *exec.Cmd) error {
	switch {
	case g == nil:
		return cmd.Start()
	case g.v2:
		cmd.SysProcAttr.UseCgroupFD, cmd.SysProcAttr.CgroupFD = true, int(g.folder.Fd())
		return cmd.Start()
	}
	b := &birth{cmd, make(chan error, 1)}
	g.births <- b
	return <-b.done
}

// folders are those of the group, each once.
func (g *group) folders() (list []string) {
	if g == nil {
		return nil
	}
	for _, dir := range []string{g.memory, g.pids} {
		if dir != "" && !slices.Contains(list, dir) {
			list = append(list, dir)
		}
	}
	return list
}

// close removes the group. Its processes have been killed; the kernel may take a moment to let go of them.
func (g *group) close() {
	if g != nil && g.births != nil {
		close(g.births)
	}
	if g != nil && g.folder != nil {
		g.folder.Close()
	}
	for _, dir := range g.folders() {
		for range 50 {
			if err := os.Remove(dir); err == nil || errors.Is(err, fs.ErrNotExist) {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// counts are how often limits were met.
func (g *group) counts() (c counts) {
	if g == nil {
		return c
	}
	if g.v2 {
		c.killed = counterIn(filepath.Join(g.memory, "memory.events"), "oom_kill")
	} else if g.memory != "" {
		c.killed = counterIn(filepath.Join(g.memory, "memory.oom_control"), "oom_kill")
	}
	if g.pids != "" {
		c.refused = counterIn(filepath.Join(g.pids, "pids.events"), "max")
	}
	return c
}

// counterIn reads a number from a file of "name number" lines.
func counterIn(file, name string) (n int64) {
	text, err := os.ReadFile(file)
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) == 2 && fields[0] == name {
			n, _ = strconv.ParseInt(fields[1], 10, 64)
		}
	}
	return n
}
