// Package service holds the use cases: taking pushes in, planning runs, handing out work, taking reports, and
// answering what is known. It keeps nothing in memory that another server on the same records would miss.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

// Lease is how long a runner may be silent before its attempt counts as lost.
const Lease = 15 * time.Second

// MaxAttempts is how often a job is tried when its runner is lost.
const MaxAttempts = 3

// Errors that callers tell apart. Everything else is a fault of ours.
var (
	ErrNotFound  = errors.New("not found")
	ErrExists    = errors.New("exists already")
	ErrInvalid   = errors.New("not valid")
	ErrForbidden = errors.New("not allowed")
	ErrGone      = errors.New("no longer this runner's")
)

// Service is one server's share of the work.
type Service struct {
	store  *store.Store
	stream *stream.Stream
	blobs  *blob.Blobs
	vault  *vault
	home   string
	log    *slog.Logger
	issuer Issuer
	public string
	space  space

	discovered found
	clean      clean
	dispatch   *dispatcher

	kick   chan struct{} // something is in the outbox
	moves  chan struct{} // a log may be ready to move
	ends   chan struct{} // a run is over, for which another pipeline may wait
	away   bool          // the database was, when lost runners were last looked for
	closed context.CancelFunc
	life   context.Context
	work   sync.WaitGroup
}

// Options are what a service is told at its start.
type Options struct {
	Home   string // the data folder: mirrors are there, and the master key unless it is elsewhere
	Master Master
	Issuer Issuer // where people may sign in; the zero value for none
	// Reserve is how much of the disk is kept free, in bytes: with less, no job is handed out.
	Reserve int64
	Public  string // address by which people reach the console; "" when that is not known
	Log     *slog.Logger
}

// MasterFile is where the master key of a data folder is, unless it is elsewhere.
func MasterFile(home string) string { return filepath.Join(home, "secrets.key") }

// Open joins the parts and starts the background work.
func Open(ctx context.Context, st *store.Store, sm *stream.Stream, blobs *blob.Blobs, o Options) (*Service, error) {
	vault, err := openVault(ctx, o.Master, st)
	if err != nil {
		return nil, err
	}
	s := &Service{store: st, stream: sm, blobs: blobs, vault: vault, home: o.Home, log: o.Log, issuer: o.Issuer,
		public: o.Public, space: space{dir: o.Home, reserve: o.Reserve},
		kick: make(chan struct{}, 1), moves: make(chan struct{}, 1), ends: make(chan struct{}, 1)}
	s.dispatch = newDispatcher(s)
	s.life, s.closed = context.WithCancel(AsItself(context.Background()))
	// The server was away: runners that kept working need time to report before they count as lost.
	if err := st.ExtendLeases(ctx, Lease); err != nil {
		return nil, err
	}
	s.background()
	go nobody() // the first who signs in does not wait for it
	return s, nil
}

// Close ends the background work and waits for it.
func (s *Service) Close() {
	s.closed()
	s.work.Wait()
}

// Home is the data folder.
func (s *Service) Home() string { return s.home }

func (s *Service) mirror(project int64) string {
	return filepath.Join(s.home, "mirrors", fmt.Sprintf("%d.git", project))
}

// poke wakes a background loop; when it is awake already, that is enough.
func poke(ch chan struct{}) {
	select {
	case ch <- struct{}{}:
	default:
	}
}

// known turns the store's errors into the service's, with what was looked for.
func known(err error, format string, args ...any) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, store.ErrNotFound):
		return fmt.Errorf("%s: %w", fmt.Sprintf(format, args...), ErrNotFound)
	case errors.Is(err, store.ErrExists):
		return fmt.Errorf("%s: %w", fmt.Sprintf(format, args...), ErrExists)
	}
	return err
}
