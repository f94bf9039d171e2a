package process

import (
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
)

// AskToEnd sends SIGTERM to every process of a step. Bubblewrap does not pass signals on, so they are found by their
// parents.
func AskToEnd(cmd *exec.Cmd) {
	for _, pid := range below(cmd.Process.Pid) {
		name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		if strings.TrimSpace(string(name)) != "bwrap" {
			_ = syscall.Kill(pid, syscall.SIGTERM)
		}
	}
}

// below lists the processes below one, by /proc (proc(5), stat: the fourth field is the parent).
func below(top int) []int {
	entries, _ := os.ReadDir("/proc")
	children := map[int][]int{}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		stat, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		_, rest, _ := strings.Cut(string(stat), ") ")
		fields := strings.Fields(rest)
		if len(fields) > 1 {
			if parent, err := strconv.Atoi(fields[1]); err == nil {
				children[parent] = append(children[parent], pid)
			}
		}
	}
	var all []int
	for queue := []int{top}; len(queue) > 0; queue = queue[1:] {
		all = append(all, children[queue[0]]...)
		queue = append(queue, children[queue[0]]...)
	}
	return all
}

// Use is what a process and those below it have: their number, threads counted, and their resident memory in bytes
// (proc(5), stat and status; what processes share is counted for each).
func Use(top int) (processes int, memory int64) {
	for _, pid := range append(below(top), top) {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			name, rest, _ := strings.Cut(line, ":")
			fields := strings.Fields(rest)
			if len(fields) == 0 {
				continue
			}
			n, _ := strconv.ParseInt(fields[0], 10, 64)
			switch name {
			case "Threads":
				processes += int(n)
			case "RssAnon", "RssShmem":
				memory += n << 10
			}
		}
	}
	return processes, memory
}
