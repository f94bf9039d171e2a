package sandbox

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"gentlepiston.example/piston/runner/beside"
	"gentlepiston.example/piston/runner/sandbox/netns"
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

// NetworkFor decides which network a step that wants one is given: "outside", "host" or "none". mayHost tells whether
// its run may be given the machine's.
func (m *Machine) NetworkFor(wanted string, mayHost bool) (string, error) {
	switch wanted {
	case "none":
		return "none", nil
	case "host":
		switch {
		case m.Network == NetworkOutside:
			return "", fmt.Errorf(`the step asks for the machine's own network (network = "host"), and this runner gives it ` +
				`to none; its owner can allow it: --network any`)
		case !mayHost:
			return "", fmt.Errorf(`the step asks for the machine's own network (network = "host"), and this run is not given ` +
				`it: ` +
				`a project must be allowed to (piston project network), and a proposal from outside never is`)
		}
		return "host", nil
	}
	if m.Network == NetworkHost || m.Isolation == None {
		return "host", nil
	}
	return "outside", nil
}

// findNetwork refuses to start where jobs cannot be given the networks they are to have.
func (m *Machine) findNetwork() error {
	if m.Network == "" {
		m.Network = NetworkOutside
	}
	switch m.Network {
	case NetworkOutside, NetworkAny, NetworkHost:
	default:
		return fmt.Errorf("network %q: use outside, any or host", m.Network)
	}
	if m.Isolation == None || m.Network == NetworkHost {
		m.Network = NetworkHost
		return nil
	}
	nets := &netns.Maker{Program: m.Program, Policy: m.Reach}
	if err := nets.Find(); err != nil {
		return noNetwork(err)
	}
	m.nets = nets
	return nil
}

// Networks has a network ready for the next job of a slot, so that none waits for it.
type Networks struct {
	maker   *netns.Maker
	life    context.Context
	next    chan made
	waiting sync.WaitGroup
}

type made struct {
	network *netns.Network
	err     error
}

// nextAfter is how long after a job has taken its network the next is made: the job's beginning comes first.
const nextAfter = 300 * time.Millisecond

// Networks makes the first. They last as long as life at most.
func (m *Machine) Networks(life context.Context) *Networks {
	n := &Networks{maker: m.nets, life: life}
	n.prepare(0)
	return n
}

func (n *Networks) prepare(after time.Duration) {
	if n.maker == nil {
		return
	}
	next := make(chan made, 1)
	n.next = next
	n.waiting.Go(func() {
		beside.Pause(n.life, after)
		network, err := n.maker.Make(n.life)
		next <- made{network, err}
	})
}

// take gives the network that is ready. One that could not be made is tried once more, now.
func (n *Networks) take(ctx context.Context) (*netns.Network, error) {
	m := <-n.next
	if m.err != nil {
		m.network, m.err = n.maker.Make(ctx)
	}
	n.prepare(nextAfter)
	return m.network, m.err
}

// Close waits for the one that is being made and ends it.
func (n *Networks) Close() {
	n.waiting.Wait()
	if n.next == nil {
		return
	}
	if m := <-n.next; m.network != nil {
		m.network.Close()
	}
}
