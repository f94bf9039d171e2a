// Package runner claims jobs from a service and executes them: checkout, caches, steps in a sandbox, artifacts. It
// speaks HTTP to the service only and outlives it: while the service is away a job goes on, and its log waits.
package runner

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/reach"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/beside"
	"gentlepiston.example/piston/runner/mirror"
	"gentlepiston.example/piston/runner/process"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/runner/tier"
	"gentlepiston.example/piston/runner/workspace"
)

// Config is what a runner is told at its start.
type Config struct {
	Name      string
	Version   string   // of the program
	Home      string   // its own folder; jobs work below it
	Labels    []string // besides those of the machine
	Slots     int      // jobs at a time
	Isolation sandbox.Isolation
	Most      definition.Numbers // what any job may take
	Client    *client.Client
	CA        []byte            // certificates (PEM) of authorities that are believed besides the machine's
	Tier      int64             // most bytes of saved folders that are kept on this machine, and of repositories; 0 any
	Network   sandbox.Network   // what steps may be given of it; "" is outside
	Program   []string          // the command that prepares a network from within (netns.Prepare)
	Reach     reach.Policy      // what repositories may make it speak to
	Tools     map[string]string // versions of what is installed, by name
	Probes    []Probe           // the owner's own, with which they were found
	Log       *slog.Logger
}

// claimWait is how long a claim is held open.
const claimWait = 25 * time.Second

// Runner executes jobs.
type Runner struct {
	Config
	instance string // tells it from another of its name
	identity *age.X25519Identity
	caFile   string // what git believes; "" for what the machine does
	place    string // where its jobs work
	machine  *sandbox.Machine
	tools    *toolbox          // what is installed, as far as anybody asked
	tier     *tier.Tier        // saved folders that are on this machine
	mirrors  *mirror.Mirrors   // and what there is of repositories
	use      workspace.Uses    // what its jobs' files take
	networks *sandbox.Networks // of one for trials
	accounts accounts          // the host users that its jobs have
	standing standing          // workspaces that stay
}

// nextNetworkAfter is how long after a job has taken its network the next of the slot is made.
const nextNetworkAfter = 300 * time.Millisecond

// New checks that the machine can do what is asked of it.
func New(c Config) (*Runner, error) {
	c.Labels = append([]string{runtime.GOOS, runtime.GOARCH}, c.Labels...)
	if c.Slots < 1 {
		c.Slots = 1
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	if c.Home, err = filepath.Abs(c.Home); err != nil {
		return nil, err
	}
	c.Client.Patience = attempt.Patience
	r := &Runner{Config: c, identity: identity, place: c.Home, tools: newToolbox(c.Tools, c.Probes)}
	if err := r.settle(); err != nil {
		return nil, err
	}
	return r, nil
}

// settle finds where jobs work, and as whom.
func (r *Runner) settle() (err error) {
	if err := os.MkdirAll(r.Home, 0o755); err != nil {
		return err
	}
	first := r.Isolation.AccountOf(r.Home, 0)
	if r.place, err = process.WorkFolder(r.Home, first); err != nil {
		return err
	}
	if err := r.keepInstance(); err != nil {
		return err
	}
	if err := r.keepCA(); err != nil {
		return err
	}
	if r.machine, err = sandbox.New(r.sandbox(), r.place, first); err != nil {
		return err
	}
	if r.tier, err = tier.Open(filepath.Join(r.place, "tier"), r.Tier); err != nil {
		return err
	}
	if r.mirrors, err = mirror.Open(filepath.Join(r.place, "mirrors"), r.Tier); err != nil {
		return err
	}
	return r.machine.Try(context.Background())
}

// sandbox is what is asked of the machine.
func (r *Runner) sandbox() sandbox.Config {
	return sandbox.Config{Isolation: r.Isolation, Network: r.Network, Program: r.Program, Reach: r.Reach, Log: r.Log}
}

// machineCA is where Debian keeps the authorities that the machine believes.
const machineCA = "/etc/ssl/certs/ca-certificates.crt"

// keepCA writes what git is to believe where the users of slots can read it.
func (r *Runner) keepCA() error {
	if len(r.CA) == 0 {
		return nil
	}
	all, err := os.ReadFile(machineCA)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	r.caFile = filepath.Join(r.place, "authorities.pem")
	return os.WriteFile(r.caFile, append(append(all, '\n'), r.CA...), 0o644)
}

// Run works until ctx ends; then steps are killed and it returns when nothing of them is left. When drain is closed
// it claims no more and returns after the jobs at hand.
func (r *Runner) Run(ctx context.Context, drain <-chan struct{}) error {
	if err := r.clear(); err != nil {
		return err
	}
	claiming, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	defer beside.Do(claiming, func(ctx context.Context) {
		select {
		case <-drain:
			stop(nil)
		case <-ctx.Done():
		}
	})()
	var slots sync.WaitGroup
	for range r.Slots {
		slots.Go(func() { r.slot(ctx, claiming, stop) })
	}
	slots.Wait()
	if cause := context.Cause(claiming); cause != nil && !errors.Is(cause, context.Canceled) {
		return cause
	}
	return nil
}

// instanceFile holds by what the service tells a runner from another of its name.
const instanceFile = "runner.id"

// keepInstance finds which runner this is: the same for as long as its folder is.
func (r *Runner) keepInstance() error {
	file := filepath.Join(r.Home, instanceFile)
	text, err := os.ReadFile(file)
	if id := strings.TrimSpace(string(text)); err == nil && id != "" {
		r.instance = id
		return nil
	}
	r.instance = rand.Text()
	return os.WriteFile(file, []byte(r.instance+"\n"), 0o600)
}

// clear removes what an earlier life left behind, whose jobs are tried again, and prepares the folder.
func (r *Runner) clear() error {
	work := filepath.Join(r.place, "work")
	if err := disk.RemoveAll(work); err != nil {
		return fmt.Errorf("clearing %s: %w", work, err)
	}
	if err := os.MkdirAll(work, 0o711); err != nil {
		return err
	}
	return r.machine.MakeEtc()
}

// slot is where one job at a time is executed, beside what earlier ones have left for a look around.
type slot struct {
	*Runner
	claiming context.Context // what stays, stays until this ends at the latest
	networks *sandbox.Networks
	stays    sync.WaitGroup
}

// slot claims jobs and executes them, until claiming ends or the service refuses the runner.
func (r *Runner) slot(ctx, claiming context.Context, refused context.CancelCauseFunc) {
	request := api.ClaimRequest{Runner: r.Name, Labels: r.Labels, Platform: platform(), Slots: r.Slots,
		Instance: r.instance, Version: r.Version, Protocol: api.RunnerProtocol, Recipient: r.identity.Recipient().String(),
		WaitMs: int(claimWait.Milliseconds())}
	quiet := false
	s := &slot{Runner: r, claiming: claiming, networks: r.machine.Networks(ctx, nextNetworkAfter)}
	defer s.networks.Close()
	defer s.stays.Wait()
	for wait := 100 * time.Millisecond; claiming.Err() == nil; {
		request.Now, request.Host = time.Now().UnixMilli(), hostAt(r.place)
		r.tools.tell(&request)
		claimed, err := r.Client.Claim(claiming, request)
		if err != nil {
			if claiming.Err() != nil {
				return
			}
			if errors.Is(err, client.ErrInvalid) {
				refused(fmt.Errorf("the service gives this runner no work: %w", err))
				return
			}
			if !quiet {
				r.Log.Warn("cannot ask for work; trying again", "error", err)
				quiet = true
			}
			beside.Pause(claiming, wait)
			wait = min(wait*2, 2*time.Second)
			continue
		}
		if quiet {
			r.Log.Info("the service answers again")
		}
		quiet, wait = false, 100*time.Millisecond
		if len(claimed.LookFor) > 0 {
			r.tools.lookFor(claiming, r.Isolation, claimed.LookFor)
		}
		if claimed.Work != nil {
			s.execute(ctx, claimed.Work)
		}
	}
}

func platform() string { return runtime.GOOS + "/" + runtime.GOARCH }
