package runner

import (
	"os/exec"
	"syscall"
)

// ownGroup puts a process into a group of its own, so that it can be ended with all it starts, and a Ctrl-C in the
// runner's terminal does not reach it.
func ownGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
}

// kill ends what is left of a process's group. Under bubblewrap the rest goes with it: its namespace ends.
func kill(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }

// exitCode follows the shell: 128 and the signal's number for a process that a signal has ended.
func exitCode(e *exec.ExitError) int {
	if ws, ok := e.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
		return 128 + int(ws.Signal())
	}
	return e.ExitCode()
}
