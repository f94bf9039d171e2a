//go:build !linux

package process

import (
	"os/exec"
	"syscall"
)

// AskToEnd sends SIGTERM to a step's group.
func AskToEnd(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }

// Use is not known here: limits of memory and processes are Linux's.
func Use(int) (processes int, memory int64) { return 0, 0 }
