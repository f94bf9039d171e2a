//go:build !linux

// Package netns makes networks for jobs; only Linux has them.
package netns

import (
	"context"
	"errors"
	"os"

	"gentlepiston.example/piston/core/reach"
)

// DNS is where names are looked up in a network.
const DNS = ""

// ErrNoSlirp says that there is no such thing here.
var ErrNoSlirp = errors.New("networks for jobs are of Linux")

// Network is none.
type Network struct{}

// Maker makes none.
type Maker struct {
	Program []string
	Policy  reach.Policy
}

// Find finds nothing.
func (*Maker) Find() error { return ErrNoSlirp }

// Make makes nothing.
func (*Maker) Make(context.Context) (*Network, error) { return nil, ErrNoSlirp }

// Enter does nothing.
func (*Network) Enter() error { return ErrNoSlirp }

// Wrap changes nothing.
func (*Network) Wrap(argv []string, files []*os.File, _ int) ([]string, []*os.File) {
	return argv, files
}

// Close does nothing.
func (*Network) Close() {}

// Prepare does nothing.
func Prepare() error { return ErrNoSlirp }
