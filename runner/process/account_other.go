//go:build !linux

package process

import (
	"os"
	"os/exec"
)

// Account is none: elsewhere than on Linux steps run as the runner's own user.
type Account struct{}

// AccountOf gives none.
func AccountOf(string, int) *Account { return nil }

// Become changes nothing.
func (*Account) Become(*exec.Cmd) {}

// Take changes nothing.
func (*Account) Take(string) error { return nil }

// TakeIn changes nothing.
func (*Account) TakeIn(*os.Root, string) error { return nil }

// TakeOpen changes nothing.
func (*Account) TakeOpen(*os.File) error { return nil }

// ID is that of the runner's own.
func (*Account) ID() int { return -1 }

// WorkFolder is the runner's own.
func WorkFolder(home string, _ *Account) (string, error) { return home, nil }
