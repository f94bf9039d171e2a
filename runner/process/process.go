// Package process has what a runner starts on its machine in hand: each process in a group of its own, as a host user
// without rights where the runner has rights to give away, and found again with all it has started.
package process

import (
	"os/exec"
	"syscall"
)

// OwnGroup puts a process into a group of its own, so that it can be ended with all it starts, and a Ctrl-C in the
// runner's terminal does not reach it.
func OwnGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
}

// Kill ends what is left of a process's group. Under bubblewrap the rest goes with it: its namespace ends.
func Kill(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }

// ExitCode follows the shell: 128 and the signal's number for a process that a signal has ended.
func ExitCode(e *exec.ExitError) int {
	if ws, ok := e.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
		return 128 + int(ws.Signal())
	}
	return e.ExitCode()
}

// WorkFolderFile is the file of a runner's folder that names where it works, when that is not below it.
const WorkFolderFile = "work.folder"
