//go:build !linux

package mount

import (
	"errors"
	"os/exec"

	"gentlepiston.example/piston/runner/process"
)

// Apart: elsewhere than on Linux there is nothing to be apart in.
func Apart() bool { return false }

// Separate changes nothing.
func Separate(*exec.Cmd) {}

// Enter does nothing.
func Enter() (ended bool, code int) { return false, 0 }

// Overlay cannot be had.
func Overlay(string, []Layer, string, string, *process.Account) error {
	return errors.New("overlays are of Linux")
}

// Hide cannot be had.
func Hide(string) error { return errors.New("overlays are of Linux") }

// Unmount takes nothing away.
func Unmount(string) error { return nil }
