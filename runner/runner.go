// Package runner claims jobs from a service and executes them: checkout, caches, steps in a sandbox, artifacts. It
// speaks HTTP to the service only and outlives it: while the service is away a job goes on, and its log waits.
package runner

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
)

// Isolation is how steps are kept apart from the machine.
type Isolation string

// Bubblewrap gives each step namespaces of its own; None runs it as the runner's own user.
const (
	Bubblewrap Isolation = "bubblewrap"
	None       Isolation = "none"
)

// Config is what a runner is told at its start.
type Config struct {
	Name      string
	Home      string   // its own folder; jobs work below it
	Labels    []string // besides those of the machine
	Slots     int      // jobs at a time
	Isolation Isolation
	Most      definition.Numbers // what any job may take
	Client    *client.Client
	Tools     map[string]string // versions of what is installed, by name
	Log       *slog.Logger
}

// patience is how long a runner keeps trying to report when the service is away.
const patience = 10 * time.Minute

// claimWait is how long a claim is held open.
const claimWait = 25 * time.Second

// Runner executes jobs.
type Runner struct {
	Config
	identity *age.X25519Identity
	groups   *groups // where the groups of jobs are made; nil where there are none
}

// New checks that the machine can do what is asked of it.
func New(c Config) (*Runner, error) {
	c.Labels = append([]string{runtime.GOOS, runtime.GOARCH}, c.Labels...)
	if c.Slots < 1 {
		c.Slots = 1
	}
	if err := checkIsolation(c.Isolation); err != nil {
		return nil, err
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	c.Client.Patience = patience
	return &Runner{Config: c, identity: identity, groups: findGroups(c.Log)}, nil
}

// Run works until ctx ends; then steps are killed and it returns when nothing of them is left. When drain is closed
// it claims no more and returns after the jobs at hand.
func (r *Runner) Run(ctx context.Context, drain <-chan struct{}) error {
	if err := r.clear(); err != nil {
		return err
	}
	claiming, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		select {
		case <-drain:
			stop()
		case <-claiming.Done():
		}
	}()
	var slots sync.WaitGroup
	for range r.Slots {
		slots.Go(func() { r.slot(ctx, claiming) })
	}
	slots.Wait()
	return nil
}

// clear removes what an earlier life left behind, whose jobs are tried again, and prepares the folder.
func (r *Runner) clear() error {
	work := filepath.Join(r.Home, "work")
	if err := RemoveAll(work); err != nil {
		return fmt.Errorf("clearing %s: %w", work, err)
	}
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	return r.makeEtc()
}

func (r *Runner) slot(ctx, claiming context.Context) {
	request := api.ClaimRequest{Runner: r.Name, Labels: r.Labels, Platform: platform(), Slots: r.Slots,
		Tools: r.Tools, Recipient: r.identity.Recipient().String(), WaitMs: int(claimWait.Milliseconds())}
	quiet := false
	for wait := 100 * time.Millisecond; claiming.Err() == nil; {
		work, err := r.Client.Claim(claiming, request)
		if err != nil {
			if claiming.Err() != nil {
				return
			}
			if !quiet {
				r.Log.Warn("cannot ask for work; trying again", "error", err)
				quiet = true
			}
			pause(claiming, wait)
			wait = min(wait*2, 2*time.Second)
			continue
		}
		if quiet {
			r.Log.Info("the service answers again")
		}
		quiet, wait = false, 100*time.Millisecond
		if work != nil {
			r.execute(ctx, work)
		}
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

func platform() string { return runtime.GOOS + "/" + runtime.GOARCH }

// RemoveAll removes a folder even when a job has made parts of it read-only.
func RemoveAll(dir string) error {
	err := os.RemoveAll(dir)
	if errors.Is(err, os.ErrPermission) {
		_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if d != nil && d.IsDir() {
				_ = os.Chmod(path, 0o700)
			}
			return nil
		})
		err = os.RemoveAll(dir)
	}
	return err
}
