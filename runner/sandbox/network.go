package sandbox

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

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

// Networks has a network ready for the next job, so that none waits for it. Several may take from it at once.
type Networks struct {
	maker *netns.Maker
	life  context.Context
	over  context.CancelFunc
	after time.Duration

	mu      sync.Mutex
	next    *promise
	waiting sync.WaitGroup
}

// promise is a network that is being made, or will be.
type promise struct {
	wanted  chan struct{} // somebody waits for it
	made    chan struct{}
	network *netns.Network
	err     error
}

// Networks makes the first. The next is made a while after one was taken, since the beginning of that job comes first,
// or when it is wanted. They last as long as life at most.
func (m *Machine) Networks(life context.Context, after time.Duration) *Networks {
	n := &Networks{maker: m.nets, after: after}
	n.life, n.over = context.WithCancel(life)
	if n.maker != nil {
		n.next = n.promise(0)
	}
	return n
}

func (n *Networks) promise(after time.Duration) *promise {
	p := &promise{wanted: make(chan struct{}), made: make(chan struct{})}
	n.waiting.Go(func() {
		defer close(p.made)
		select {
		case <-time.After(after):
		case <-p.wanted:
		case <-n.life.Done():
		}
		p.network, p.err = n.maker.Make(n.life)
	})
	return p
}

// take gives the network that is ready. One that could not be made is tried once more, now.
func (n *Networks) take(ctx context.Context) (*netns.Network, error) {
	n.mu.Lock()
	p := n.next
	n.next = n.promise(n.after)
	n.mu.Unlock()
	close(p.wanted)
	<-p.made
	if p.err != nil {
		return n.maker.Make(ctx)
	}
	return p.network, nil
}

// end ends one that was taken, beside what the caller does: its programs take a while to go.
func (n *Networks) end(network *netns.Network) { n.waiting.Go(network.Close) }

// Close ends the one that is ready or being made. None that was taken is in use any more.
func (n *Networks) Close() {
	n.over()
	n.waiting.Wait()
	if n.next != nil && n.next.network != nil {
		n.next.network.Close()
	}
}
