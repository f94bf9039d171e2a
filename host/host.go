// Package host runs a whole service on one machine: its records, stream, blobs, HTTP interface and a runner, started
// in order and stopped in reverse.
package host

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"time"

	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/httpapi"
	"gentlepiston.example/piston/local"
	"gentlepiston.example/piston/service"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/service/people"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
	"gentlepiston.example/piston/token"
)

// Options say what to run.
type Options struct {
	Home     string   // data folder
	Listen   string   // address and port, such as 127.0.0.1:7460
	Database string   // an existing PostgreSQL; "" starts one of our own
	Slots    int      // jobs the runner takes at a time; 0: no runner here
	Isolate  string   // how the runner keeps steps apart
	Network  string   // which network it gives them; "" for its default
	Take     bool     // the records are to be this data folder's from now on
	Through  []string // what inside it lets them reach
	Log      *slog.Logger

	MasterFile string // the master key; "" for the data folder's own
	Tokens     string // the PKCS #11 library of tokens that signing keys are in; "" for none
	CertFile   string // of TLS, with KeyFile
	KeyFile    string
	Plain      bool           // HTTP without TLS beyond loopback, since something in front of it speaks TLS
	Mail       letters.Server // by what mail is sent
	Outlets    string         // folder below which outlets that are folders are; "" for one in the data folder
	Reserve    int64          // bytes of the disk that are kept free
	Public     string         // address by which people reach it; "" for the one it listens at
	Traces     string         // address of a collector that runs are told to as traces; "" for none
	Proxies    []netip.Prefix // whose word about where a request is from is taken
	Issuer     people.Issuer
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
	debug.SetGCPercent(gcPercent)
	h := &Host{}
	idle, end := context.WithCancel(context.WithoutCancel(ctx))
	h.onStop(end)
	go giveBack(idle)
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
	certificate, err := o.certificate()
	if err != nil {
		return err
	}
	listener, err := listen(o.Listen, certificate != nil || o.Plain)
	if err != nil {
		return err
	}
	h.onStop(func() { listener.Close() })
	h.Address = "http://" + listener.Addr().String()
	if certificate != nil {
		h.Address = "https://" + listener.Addr().String()
		listener = tls.NewListener(listener,
			&tls.Config{GetCertificate: certificate, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}})
	}
	o.Public = strings.TrimSuffix(cmp.Or(o.Public, h.Address), "/")
	o.Issuer.Return = o.Public + httpapi.Prefix + "/session/issuer/return"

	if err := h.openService(ctx, home, o); err != nil {
		return err
	}
	handler := httpapi.Handler(h.Service,
		httpapi.Options{Secure: strings.HasPrefix(o.Public, "https://"), Proxies: o.Proxies})
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second,
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
		address := h.Address
		if certificate != nil || !listener.Addr().(*net.TCPAddr).IP.IsLoopback() {
			// Our own runner comes in by a door of its own, which only this machine has.
			if address, err = h.loopback(server); err != nil {
				return err
			}
		}
		child, err := startRunner(ctx, h.Service, address, home, o)
		if err != nil {
			return err
		}
		h.onStop(child.stop)
	}
	return nil
}

// loopback serves on a port of this machine, too, without TLS.
func (h *Host) loopback(server *http.Server) (address string, err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	go func() { _ = server.Serve(l) }() // it ends with the server
	return "http://" + l.Addr().String(), nil
}

func (h *Host) onStop(f func()) { h.stops = append(h.stops, f) }

// Stop ends everything, last started first.
func (h *Host) Stop() {
	for i := len(h.stops) - 1; i >= 0; i-- {
		h.stops[i]()
	}
	h.stops = nil
}

// certificate reads TLS's own certificate, anew when its file has changed; nil when there is to be none.
func (o Options) certificate() (func(*tls.ClientHelloInfo) (*tls.Certificate, error), error) {
	if o.CertFile == "" && o.KeyFile == "" {
		return nil, nil
	}
	var mu sync.Mutex
	var made time.Time
	var last *tls.Certificate
	read := func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		mu.Lock()
		defer mu.Unlock()
		info, err := os.Stat(o.CertFile)
		if err == nil && last != nil && info.ModTime().Equal(made) {
			return last, nil
		}
		var pair tls.Certificate
		if err == nil {
			pair, err = tls.LoadX509KeyPair(o.CertFile, o.KeyFile)
		}
		if err != nil {
			if last != nil {
				return last, nil // half of it is written just now
			}
			return nil, fmt.Errorf("--tls-cert and --tls-key: %w", err)
		}
		last, made = &pair, info.ModTime()
		return last, nil
	}
	_, err := read(nil)
	return read, err
}

// listen opens the port. Beyond loopback it must be secure, or said to be.
func listen(address string, secure bool) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("--listen %q: give an address and a port, such as 127.0.0.1:7460", address)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) && !secure {
		return nil, fmt.Errorf("--listen %q: without TLS the service stays on loopback, since passwords, tokens and "+
			"artifacts would be readable on the way. "+
			"Give it a certificate by --tls-cert and --tls-key; or put a proxy with TLS in front of it, and say so by "+
			"--behind-proxy", address)
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
	if err := claimHome(ctx, st, home, o.Take); err != nil {
		return err
	}
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
	tokens := token.New(o.Tokens)
	h.onStop(func() { _ = tokens.Close() })
	if h.Service, err = service.Open(ctx, st, sm, blobs,
		service.Options{Home: home, Master: vault.FindMaster(os.Getenv, cmp.Or(o.MasterFile, service.MasterFile(home))),
			Tokens: tokens, Issuer: o.Issuer, Public: o.Public, Reserve: o.Reserve, Outlets: o.Outlets, Mail: o.Mail,
			Traces: o.Traces,
			Log:    o.Log}); err != nil {
		return err
	}
	h.onStop(h.Service.Close)
	h.FirstPassword, err = h.Service.People.EnsureAdministrator(ground.AsItself(ctx))
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
