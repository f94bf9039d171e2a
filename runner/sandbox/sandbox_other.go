//go:build !linux

package sandbox

import (
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"

	"gentlepiston.example/piston/runner/process"
)

// checkIsolation: bubblewrap is a Linux program.
func checkIsolation(i Isolation) error {
	if i != None {
		return fmt.Errorf("there is no sandbox for %s yet: if every repository this runner builds is trusted with the whole "+
			"machine, start it with --isolation none", runtime.GOOS)
	}
	return nil
}

func checkAccount(Isolation, *process.Account) error { return nil }

// Inside is where a step sees a part of the job's files: where they are.
func (b *Box) Inside(part string) string { return filepath.Join(b.build, part) }

// NeedsFolder tells that secret files need a folder of the host.
func (*Machine) NeedsFolder() bool { return true }

// PlaceSecret puts a secret beside the workspace, as a file of the step's folder.
func (*Box) PlaceSecret(s *Spec, name string, value []byte) (at string, err error) {
	return s.secretFolder(name, value)
}

func (b *Box) command(s *Spec) (*exec.Cmd, error) {
	command, err := s.command()
	if err != nil {
		return nil, err
	}
	argv := b.entering(command)
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir = filepath.Join(s.source(b.build), s.Dir)
	for k, v := range s.Env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	process.OwnGroup(cmd)
	return cmd, nil
}

// MakeEtc makes none: without a sandbox steps see the machine's own.
func (*Machine) MakeEtc() error { return nil }

// RefreshEtc makes none.
func (*Machine) RefreshEtc() error { return nil }

// StepPath is the runner's own PATH.
func StepPath(Isolation) string { return os.Getenv("PATH") }

// groups, and a group: control groups are of Linux.
type (
	groups struct{}
	group  struct{}
)

func findGroups(*slog.Logger) *groups { return nil }

func (*groups) make(string, int64, int) (*group, error) { return nil, nil }

func (*group) counts() Counts { return Counts{} }

func (*group) open() error { return nil }

func (*group) close() {}

// launchers: elsewhere a process is born where its parent is.
type launchers struct{}

func (*Box) openLaunchers() error { return nil }

func (*Box) closeLaunchers() {}

func (*Box) start(cmd *exec.Cmd, _ bool) error { return cmd.Start() }
