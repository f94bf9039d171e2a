package sandbox

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// groups is where control groups for jobs are made (cgroups(7)): the folders, below the mounted hierarchies, of the
// group that this process is in, or in version 2 of one above it.
type groups struct {
	memory, pids string // "" where the controller is not to be had; the same folder in version 2
	v2           bool
	top          string // of version 2: where the hierarchy is mounted
}

// findGroups looks for control groups this process may make groups in; nil when there are none. What they would have
// done, Box.Watch then does, more loosely.
func findGroups(log *slog.Logger) *groups {
	own, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return nil
	}
	mounts, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	g, err := placeGroups(string(own), string(mounts))
	if err == nil {
		err = g.try()
	}
	if err == nil {
		g.clear()
	}
	if err != nil && log != nil {
		log.Info("control groups cannot be used here: limits of memory and processes are watched instead", "reason", err)
	}
	if err != nil {
		return nil
	}
	return g
}

// placeGroups finds the folders in the texts of /proc/self/cgroup and /proc/self/mountinfo (proc(5)).
func placeGroups(own, mounts string) (*groups, error) {
	paths := map[string]string{} // controller, "" for version 2 -> path of our group
	for line := range strings.Lines(own) {
		parts := strings.SplitN(strings.TrimSpace(line), ":", 3)
		if len(parts) == 3 {
			for c := range strings.SplitSeq(parts[1], ",") {
				paths[c] = parts[2]
			}
		}
	}
	g := &groups{}
	unified, top := "", ""
	for line := range strings.Lines(mounts) {
		fields := strings.Fields(line)
		dash := slices.Index(fields, "-")
		if dash < 5 || dash+3 >= len(fields) {
			continue
		}
		root, at, kind := fields[3], fields[4], fields[dash+1]
		in := func(controller string) string {
			rel, err := filepath.Rel(root, paths[controller])
			if err != nil || strings.HasPrefix(rel, "..") {
				rel = "" // our group is above what is mounted here
			}
			return filepath.Join(at, rel)
		}
		switch kind {
		case "cgroup":
			for c := range strings.SplitSeq(fields[dash+3], ",") {
				switch c {
				case "memory":
					g.memory = in(c)
				case "pids":
					g.pids = in(c)
				}
			}
		case "cgroup2":
			unified, top = in(""), at
		}
	}
	if g.memory == "" && g.pids == "" && unified != "" {
		return &groups{unified, unified, true, top}, nil
	}
	if g.memory == "" && g.pids == "" {
		return nil, errors.New("none are mounted")
	}
	return g, nil
}

// clear removes the groups of runners that are no more, and ended without a word.
func (g *groups) clear() {
	for _, dir := range []string{g.memory, g.pids} {
		left, _ := filepath.Glob(filepath.Join(dir, "piston-*-*"))
		for _, group := range left {
			pid, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(group), "piston-"), "-")
			if n, err := strconv.Atoi(pid); err == nil && syscall.Kill(n, 0) != nil {
				_ = os.Remove(group)
			}
		}
	}
}

// try makes a group and removes it. In version 2 it finds out where that can be: in the group this process is in, when
// it is alone there, or in the nearest above it that lets us and has no processes of its own.
func (g *groups) try() error {
	if !g.v2 {
		return g.makeOne()
	}
	top := g.top
	err := g.enterLeaf()
	if err == nil {
		if err = g.makeOne(); err == nil {
			return nil
		}
	}
	for dir := g.memory; dir != top; {
		dir = filepath.Dir(dir)
		above := &groups{memory: dir, pids: dir, v2: true, top: top}
		if above.giveControllers() == nil && above.makeOne() == nil {
			*g = *above
			return nil
		}
	}
	return err
}

// makeOne makes a group and removes it.
func (g *groups) makeOne() error {
	made, err := g.make("try", tryMemory, tryProcesses)
	if err == nil {
		made.close()
	}
	return err
}

// What a group is tried with. Without a limit the controllers' files would not be touched, and nothing be learnt.
const tryMemory, tryProcesses = 64 << 20, 64

// giveControllers lets groups in this one, which is of version 2, have limits.
func (g *groups) giveControllers() error {
	return os.WriteFile(filepath.Join(g.memory, "cgroup.subtree_control"), []byte("+memory +pids"), 0)
}

// enterLeaf moves this process into a group in its group, since one that has processes can have no controllers for the
// groups in it (kernel, cgroup-v2.rst, No Internal Process Constraint).
func (g *groups) enterLeaf() error {
	leaf := filepath.Join(g.memory, "piston-runner")
	if err := os.Mkdir(leaf, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	self := []byte(strconv.Itoa(os.Getpid()))
	if err := os.WriteFile(filepath.Join(leaf, "cgroup.procs"), self, 0); err != nil {
		return errors.Join(err, os.Remove(leaf))
	}
	if err := g.giveControllers(); err != nil {
		// Others are in the group, too: back to where we were.
		return errors.Join(err, os.WriteFile(filepath.Join(g.memory, "cgroup.procs"), self, 0), os.Remove(leaf))
	}
	return nil
}

// make makes a group with limits; 0 is none.
func (g *groups) make(name string, memory int64, processes int) (*group, error) {
	name = fmt.Sprintf("piston-%d-%s", os.Getpid(), name)
	made := &group{v2: g.v2}
	put := func(dir, file string, n int64) error {
		if n == 0 {
			return nil
		}
		return os.WriteFile(filepath.Join(dir, file), []byte(strconv.FormatInt(n, 10)), 0)
	}
	err := func() error {
		for _, c := range []struct {
			in string
			to *string
		}{{g.memory, &made.memory}, {g.pids, &made.pids}} {
			if c.in == "" {
				continue
			}
			dir := filepath.Join(c.in, name)
			if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
				return err
			}
			*c.to = dir
		}
		if made.v2 {
			if err := put(made.memory, "memory.max", memory); err != nil {
				return err
			}
			if memory > 0 {
				_ = os.WriteFile(filepath.Join(made.memory, "memory.swap.max"), []byte("0"),
					0) // not everywhere there is swap to account
			}
		} else if made.memory != "" {
			if err := put(made.memory, "memory.limit_in_bytes", memory); err != nil {
				return err
			}
			_ = put(made.memory, "memory.memsw.limit_in_bytes", memory)
		}
		if made.pids == "" {
			return nil
		}
		return put(made.pids, "pids.max", int64(processes))
	}()
	if err != nil {
		made.close()
		return nil, err
	}
	return made, nil
}
