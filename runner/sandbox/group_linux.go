package sandbox

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
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
	folder       *os.File // of version 2, into which processes are born (clone3(2), CLONE_INTO_CGROUP)
}

// open prepares the group for processes.
func (g *group) open() (err error) {
	if g.v2 {
		g.folder, err = os.Open(g.memory)
	}
	return err
}

// enter moves the calling thread into a group of version 1.
func (g *group) enter() error {
	if g == nil || g.v2 {
		return nil
	}
	for _, dir := range g.folders() {
		if err := os.WriteFile(filepath.Join(dir, "tasks"), []byte(strconv.Itoa(unix.Gettid())), 0); err != nil {
			return err
		}
	}
	return nil
}

// receive has a process born into a group of version 2.
func (g *group) receive(cmd *exec.Cmd) {
	if g != nil && g.v2 {
		cmd.SysProcAttr.UseCgroupFD, cmd.SysProcAttr.CgroupFD = true, int(g.folder.Fd())
	}
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
	if g != nil && g.folder != nil {
		g.folder.Close()
	}
	for _, dir := range g.folders() {
		// What is just ending still is in it, for a moment.
		for wait := time.Millisecond; wait < time.Second; wait *= 2 {
			if err := os.Remove(dir); err == nil || errors.Is(err, fs.ErrNotExist) {
				break
			}
			time.Sleep(wait)
		}
	}
}

// counts are how often limits were met.
func (g *group) counts() (c Counts) {
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
