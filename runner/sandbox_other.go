//go:build !linux

package runner

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
)

// checkIsolation: bubblewrap is a Linux program.
func checkIsolation(i Isolation) error {
	if i != None {
		return fmt.Errorf("there is no sandbox for %s yet: if every repository this runner builds is trusted with the whole "+
			"machine, start it with --isolation none", platform())
	}
	return nil
}

func (j *job) inside(part string) string { return filepath.Join(j.build, part) }

func (j *job) insideSecrets(s *stepSpec) string { return s.secrets }

func (j *job) command(s *stepSpec) (*exec.Cmd, error) {
	argv := append(s.interpreter(), s.script)
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir = filepath.Join(j.src, s.dir)
	for k, v := range s.env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	ownGroup(cmd)
	return cmd, nil
}

// makeEtc: without a sandbox steps see the machine's own.
func (r *Runner) makeEtc() error { return nil }

func (r *Runner) refreshEtc() error { return nil }

func stepPath(Isolation) string { return os.Getenv("PATH") }

func askToEnd(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }

func allocated(info fs.FileInfo) int64 { return info.Size() }
