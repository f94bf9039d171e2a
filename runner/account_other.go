//go:build !linux

package runner

import (
	"os"
	"os/exec"
)

// account: elsewhere than on Linux steps run as the runner's own user.
type account struct{}

func (*Runner) accountOf(int) *account { return nil }

func (*account) become(*exec.Cmd) {}

func (*account) take(string) error { return nil }

func (*account) takeIn(*os.Root, string) error { return nil }

func workFolder(home string, _ *account) (string, error) { return home, nil }
