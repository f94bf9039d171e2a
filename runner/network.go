package runner

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/runner/netns"
)

// Network says what of the machine's network steps may be given.
type Network string

// NetworkOutside gives steps the world and nothing inside; NetworkAny also the machine's own network to those that ask
// for "host", where project and proposal allow it; NetworkHost gives that to all, as where there is nothing better.
const (
	NetworkOutside Network = "outside"
	NetworkAny     Network = "any"
	NetworkHost    Network = "host"
)

// ErrNoNetwork says that steps cannot be given a network of their own here.
var ErrNoNetwork = errors.New("steps cannot be given a network of their own, which keeps the machine and the house " +
	"from them")

// noNetwork says what is to be done then.
func noNetwork(why error) error {
	return fmt.Errorf("%w: %w. Debian's package slirp4netns makes them; or, if every repository this runner builds may "+
		"reach all that this machine does, "+
		"start it with --network host", ErrNoNetwork, why)
}

// networkFor decides which network a step is given: "outside", "host" or "none".
func (j *job) networkFor(wanted string) (string, error) {
	switch wanted {
	case "none":
		return "none", nil
	case "host":
		switch {
		case j.Network == NetworkOutside:
			return "", fmt.Errorf(`the step asks for the machine's own network (network = "host"), and this runner gives it ` +
				`to none; its owner can allow it: --network any`)
		case !j.work.HostNetwork:
			return "", fmt.Errorf(`the step asks for the machine's own network (network = "host"), and this run is not given ` +
				`it: ` +
				`a project must be allowed to (piston project network), and a proposal from outside never is`)
		}
		return "host", nil
	}
	if j.Network == NetworkHost || j.Isolation == None {
		return "host", nil
	}
	return "outside", nil
}

// wantsNetwork tells whether any step of the job is given a network of its own.
func (j *job) wantsNetwork() bool {
	for _, s := range j.work.Job.Step {
		if s.Skip == "" && s.Network != "none" && s.Network != "host" {
			return j.Network != NetworkHost && j.Isolation != None
		}
	}
	return false
}

// findNetwork refuses to start where jobs cannot be given the networks they are to have.
func (r *Runner) findNetwork() error {
	if r.Network == "" {
		r.Network = NetworkOutside
	}
	switch r.Network {
	case NetworkOutside, NetworkAny, NetworkHost:
	default:
		return fmt.Errorf("network %q: use outside, any or host", r.Network)
	}
	if r.Isolation == None || r.Network == NetworkHost {
		r.Network = NetworkHost
		return nil
	}
	nets := &netns.Maker{Program: r.Program, Policy: r.Reach}
	if err := nets.Find(); err != nil {
		return noNetwork(err)
	}
	r.netMaker = nets
	return nil
}

// tryNetwork makes a network and ends it.
func (r *Runner) tryNetwork(ctx context.Context) error {
	if r.netMaker == nil {
		return nil
	}
	n, err := r.netMaker.Make(ctx)
	if err != nil {
		return noNetwork(err)
	}
	n.Close()
	return nil
}

// netSlot has a network ready for the next job of a slot, so that none waits for it.
type netSlot struct {
	r    *Runner
	life context.Context
	next chan made
}

type made struct {
	network *netns.Network
	err     error
}

// nextAfter is how long after a job has taken its network the next is made: the job's beginning comes first.
const nextAfter = 300 * time.Millisecond

func (r *Runner) netSlot(life context.Context) *netSlot {
	s := &netSlot{r: r, life: life}
	s.prepare(0)
	return s
}

func (s *netSlot) prepare(after time.Duration) {
	if s.r.netMaker == nil {
		return
	}
	next := make(chan made, 1)
	s.next = next
	go func() {
		pause(s.life, after)
		network, err := s.r.netMaker.Make(s.life)
		next <- made{network, err}
	}()
}

// take gives the network that is ready. One that could not be made is tried once more, now.
func (s *netSlot) take(ctx context.Context) (*netns.Network, error) {
	m := <-s.next
	if m.err != nil {
		m.network, m.err = s.r.netMaker.Make(ctx)
	}
	s.prepare(nextAfter)
	return m.network, m.err
}

// close waits for the one that is being made and ends it.
func (s *netSlot) close() {
	if s == nil || s.next == nil {
		return
	}
	if m := <-s.next; m.network != nil {
		m.network.Close()
	}
}

// openNetwork gives the job a network of its own, when one of its steps is to have it.
func (j *job) openNetwork(ctx context.Context) (err error) {
	if !j.wantsNetwork() {
		return nil
	}
	if j.nets != nil {
		j.network, err = j.nets.take(ctx)
	} else {
		j.network, err = j.netMaker.Make(ctx)
	}
	return err
}

func (j *job) closeNetwork() {
	if j.network != nil {
		j.network.Close()
		j.network = nil
	}
}
