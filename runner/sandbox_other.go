//go:build !linux

package runner

import (
	"fmt"
	"io/fs"
	"log/slog"
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

func checkAccount(Isolation, *account) error { return nil }

func (j *job) inside(part string) string { return filepath.Join(j.build, part) }

func (j *job) placeOutside(s *stepSpec, name string, value []byte) (at string, err error) {
	return j.placeSecretFolder(s, name, value)
}

func (j *job) command(s *stepSpec) (*exec.Cmd, error) {
	argv := j.entering(append(s.interpreter(), s.script))
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

// noBlock keeps the opening of a pipe from waiting for its other end.
const noBlock = syscall.O_NONBLOCK

// groups, and a group: control groups are of Linux.
type (
	groups struct{}
	group  struct{}
)

func findGroups(*slog.Logger) *groups { return nil }

func (*groups) make(string, int64, int) (*group, error) { return nil, nil }

func (*group) folders() []string { return nil }

func (*group) counts() counts { return counts{} }

func (*group) open() error { return nil }

// launchers: elsewhere a process is born where its parent is.
type launchers struct{}

func (*job) openLaunchers() error { return nil }

func (*job) closeLaunchers() {}

func (*job) start(cmd *exec.Cmd, _ bool) error { return cmd.Start() }

func (*group) close() {}

// processUse is not known here: limits of memory and processes are Linux's.
func processUse(int) (processes int, memory int64) { return 0, 0 }
