// Package sandbox keeps steps apart from the machine, from its networks and from each other: namespaces of their own by
// bubblewrap, a filter of system calls, control groups, an /etc that knows nobody. A Machine is what there is to do so
// with, a Box what one job's steps are in.
package sandbox

import (
	"context"
	"log/slog"
	"path/filepath"

	"gentlepiston.example/piston/core/reach"
	"gentlepiston.example/piston/runner/process"
	"gentlepiston.example/piston/runner/sandbox/netns"
)

// Isolation is how steps are kept apart from the machine.
type Isolation string

// Bubblewrap gives each step namespaces of its own; None runs it as the runner's own user.
const (
	Bubblewrap Isolation = "bubblewrap"
	None       Isolation = "none"
)

// Config is what a machine is asked for.
type Config struct {
	Isolation Isolation
	Network   Network      // what steps may be given of it; "" is outside
	Program   []string     // the command that prepares a network from within (netns.Prepare)
	Reach     reach.Policy // what repositories may make it speak to
	Log       *slog.Logger
}

// Machine is what this machine has to keep steps apart with.
type Machine struct {
	Config
	place  string       // where what all sandboxes share is
	nets   *netns.Maker // makes networks for jobs; nil when they have the machine's
	groups *groups      // where the groups of jobs are made; nil where there are none
}

// New finds out whether the machine can do what is asked. What sandboxes share is kept at place; as is one of the users
// that steps will run as.
func New(c Config, place string, as *process.Account) (*Machine, error) {
	if err := checkIsolation(c.Isolation); err != nil {
		return nil, err
	}
	if err := checkAccount(c.Isolation, as); err != nil {
		return nil, err
	}
	if err := process.NoDumps(); err != nil {
		return nil, err
	}
	m := &Machine{Config: c, place: place, groups: findGroups(c.Log)}
	return m, m.findNetwork()
}

// Try makes a network and ends it, so that one that cannot be made is known before a job wants it.
func (m *Machine) Try(ctx context.Context) error {
	if m.nets == nil {
		return nil
	}
	n, err := m.nets.Make(ctx)
	if err != nil {
		return noNetwork(err)
	}
	n.Close()
	return nil
}

// AccountOf is the host user of a slot of the runner that has a folder; nil when steps run as the runner's own.
func (i Isolation) AccountOf(home string, slot int) *process.Account {
	if i != Bubblewrap {
		return nil
	}
	return process.AccountOf(home, slot)
}

// resolvFile says where names are looked up in a network of a job's own. It is beside the copy of /etc, not in it:
// there the machine's own is, for steps that are given the machine's network.
func (m *Machine) resolvFile() string { return filepath.Join(m.place, "resolv.conf") }

func (m *Machine) etcFolder() string { return filepath.Join(m.place, "etc") }
