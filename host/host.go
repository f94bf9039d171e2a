// Package host runs a whole service on one machine: its records, stream, blobs, HTTP interface and a runner, started
// in order and stopped in reverse.
package host

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"syscall"
	"time"

	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/httpapi"
	"gentlepiston.example/piston/local"
	"gentlepiston.example/piston/service"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

// Options say what to run.
type Options struct {
	Home     string // data folder
	Listen   string // address and port, such as 127.0.0.1:7460
	Database string // an existing PostgreSQL; "" starts one of our own
	Slots    int    // jobs the runner takes at a time; 0: no runner here
	Isolate  string // how the runner keeps steps apart
	Log      *slog.Logger
}

// Host is a running service.
type Host struct {
	Service       *service.Service
	Address       string // such as http://127.0.0.1:7460
	FirstPassword string // of the administrator, when this start has made it
	Failed        <-chan error

	stops []func()
}

// Start starts everything; when a part cannot start, what has been started is stopped again.
func Start(ctx context.Context, o Options) (*Host, error) {
	// A server that mostly passes bytes on gains little from a large heap; collecting earlier keeps it small.
	debug.SetGCPercent(gcPercent)
	h := &Host{}
	if err := h.start(ctx, o); err != nil {
		h.Stop()
		return nil, err
	}
	return h, nil
}

func (h *Host) start(ctx context.Context, o Options) error {
	home, err := filepath.Abs(o.Home)
	if err != nil {
		return err
	}
	lock, err := local.LockFolder(home, "piston.lock")
	if err != nil {
		return err
	}
	h.onStop(lock.Unlock)
	// The port first: it is what fails most often, and before anything has been changed.
	listener, err := listen(o.Listen)
	if err != nil {
		return err
	}
	h.onStop(func() { listener.Close() })
	h.Address = "http://" + listener.Addr().String()

	if err := h.openService(ctx, home, o); err != nil {
		return err
	}
	server := &http.Server{Handler: httpapi.Handler(h.Service, o.Log), ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug)}
	failed := make(chan error, 1)
	h.Failed = failed
	go func() {
		if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			failed <- err
		}
	}()
	h.onStop(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if server.Shutdown(ctx) != nil {
			server.Close()
		}
	})
	if o.Slots > 0 {
		child, err := startRunner(ctx, h.Service, h.Address, home, o)
		if err != nil {
			return err
		}
		h.onStop(child.stop)
	}
	return nil
}

// gcPercent is how much the heap may grow before it is collected (runtime/debug, SetGCPercent).
const gcPercent = 60

func (h *Host) onStop(f func()) { h.stops = append(h.stops, f) }

// Stop ends everything, last started first.
func (h *Host) Stop() {
	for i := len(h.stops) - 1; i >= 0; i-- {
		h.stops[i]()
	}
	h.stops = nil
}

func listen(address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("--listen %q: give an address and a port, such as 127.0.0.1:7460", address)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("--listen %q: the service speaks plain HTTP and stays on loopback; put a proxy with TLS in front of it to be reached from elsewhere", address)
	}
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s is taken by another program: stop that one, or choose another port with --listen", address)
	}
	if err != nil {
		return nil, fmt.Errorf("--listen %s: %w", address, err)
	}
	return l, nil
}

func (h *Host) openService(ctx context.Context, home string, o Options) error {
	dsn := o.Database
	if dsn == "" {
		o.Log.Info("starting PostgreSQL")
		pg, err := local.StartPostgres(ctx, home, o.Log)
		if err != nil {
			return err
		}
		h.onStop(pg.Stop)
		dsn = pg.DSN()
	}
	opening, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	st, err := store.Open(opening, dsn)
	if err != nil {
		return err
	}
	h.onStop(func() { st.Close() })
	sm, err := stream.Open(ctx, filepath.Join(home, "stream"))
	if err != nil {
		return err
	}
	h.onStop(sm.Close)
	blobs, err := blob.OpenFolder(filepath.Join(home, "blobs"))
	if err != nil {
		return err
	}
	h.onStop(func() { blobs.Close() })
	if h.Service, err = service.Open(ctx, st, sm, blobs, home, o.Log); err != nil {
		return err
	}
	h.onStop(h.Service.Close)
	h.FirstPassword, err = h.Service.EnsureAdministrator(ctx)
	return err
}

// DefaultHome is where a service keeps its data unless told otherwise.
func DefaultHome() string {
	if os.Geteuid() == 0 {
		return "/var/lib/piston/home"
	}
	if dir := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "piston")
	}
	dir, err := os.UserHomeDir()
	if err != nil {
		dir = "."
	}
	return filepath.Join(dir, ".local", "share", "piston")
}
