package stream

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"github.com/nats-io/nats-server/v2/server"

	"gentlepiston.example/piston/disk"
)

// NATS gives up its files when it cannot write them, and goes on without: what is appended then is refused until it is
// started anew. So it is watched, and started anew as soon as there is room, below a connection that stays.

// embedded is the NATS server in this process. It gives connections to whichever is running.
type embedded struct {
	dir string
	mu  sync.Mutex
	ns  *server.Server
}

func (e *embedded) start() error {
	ns, err := server.NewServer(&server.Options{
		ServerName: "piston", DontListen: true, JetStream: true, StoreDir: e.dir, NoSigs: true, NoLog: true,
		JetStreamMaxMemory: 16 << 20, JetStreamMaxStore: 1 << 40, MaxPayload: MaxBatch + 64<<10, MaxPending: 64 << 20,
	})
	if err != nil {
		return err
	}
	ns.Start()
	if !ns.ReadyForConnections(20 * time.Second) {
		ns.Shutdown()
		return errors.New("NATS did not become ready within 20 s")
	}
	e.mu.Lock()
	e.ns = ns
	e.mu.Unlock()
	return nil
}

func (e *embedded) running() *server.Server {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.ns
}

// InProcessConn implements nats.InProcessConnProvider.
func (e *embedded) InProcessConn() (net.Conn, error) { return e.running().InProcessConn() }

// stop ends it, with its files written.
func (e *embedded) stop() {
	ns := e.running()
	ns.Shutdown()
	ns.WaitForShutdown()
}

// ErrAway says that the stream takes nothing just now; the same may be appended later.
var ErrAway = errors.New("the stream takes nothing just now")

// ErrFull says that it takes nothing since its disk is full.
var ErrFull = fmt.Errorf("the server's disk is full: %w", ErrAway)

const (
	probeStream  = "PROBE"
	probeSubject = "probe"
	// room is the least free space with which it is tried to write again, in bytes: what NATS sets aside for a block.
	room = 16 << 20
	// lookEvery is how often it is looked whether all is well.
	lookEvery = 5 * time.Second
	// probeWithin bounds what a look waits for.
	probeWithin = 2 * time.Second
)

// health is what the last look has found.
type health struct {
	mu  sync.Mutex
	err error
}

func (h *health) set(err error) {
	h.mu.Lock()
	h.err = err
	h.mu.Unlock()
}

// Health tells what is wrong with the stream; nil when nothing is. It waits for nothing.
func (s *Stream) Health() error {
	s.health.mu.Lock()
	defer s.health.mu.Unlock()
	return s.health.err
}

// meant turns what an append has met into what it means.
func (s *Stream) meant(ctx context.Context, err error) error {
	if err == nil || ctx.Err() != nil {
		return err
	}
	select {
	case s.looked <- struct{}{}:
	default:
	}
	if space, spaceErr := disk.Of(s.dir); spaceErr == nil && space.Free < room {
		return fmt.Errorf("%w (%w)", ErrFull, err)
	}
	return fmt.Errorf("%w: %w", ErrAway, err)
}

// watch looks whether appends are taken, and mends what can be mended, until life ends.
func (s *Stream) watch(life context.Context) {
	defer close(s.ended)
	for {
		select {
		case <-life.Done():
			return
		case <-time.After(lookEvery):
		case <-s.looked:
		}
		err := s.probe(life)
		if err != nil && life.Err() == nil {
			err = s.mend(life, err)
		}
		s.health.set(err)
		if err != nil { // not at once again, however many appends fail
			select {
			case <-life.Done():
				return
			case <-time.After(probeWithin):
			}
		}
	}
}

// probe appends something that counts for nobody.
func (s *Stream) probe(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, probeWithin)
	defer cancel()
	_, err := s.js.Publish(ctx, probeSubject, []byte(time.Now().UTC().Format(time.RFC3339)))
	return err
}

// mend starts NATS anew when there is room to write.
func (s *Stream) mend(ctx context.Context, why error) error {
	space, err := disk.Of(s.dir)
	if err == nil && space.Free < room {
		return ErrFull
	}
	s.at.stop()
	if err := s.at.start(); err != nil {
		return fmt.Errorf("%w: NATS does not start: %w", ErrAway, err)
	}
	within, cancel := context.WithTimeout(ctx, mendWithin)
	defer cancel()
	for within.Err() == nil {
		if err = s.probe(within); err == nil {
			return nil
		}
		select {
		case <-within.Done():
		case <-time.After(50 * time.Millisecond):
		}
	}
	return fmt.Errorf("%w: %w", ErrAway, errors.Join(why, err))
}

// mendWithin bounds what a start waits for its first append.
const mendWithin = 5 * time.Second
