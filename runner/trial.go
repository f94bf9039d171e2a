package runner

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/runner/tier"
)

// Trial is a job that is tried on this machine, without a service. Its folder outlives it, so that one can look
// around in what it left behind, or go on from a step of it.
type Trial struct {
	Work     *api.Work
	Folder   string
	Secrets  api.SealedSecrets
	Post     attempt.Post
	Checkout func(ctx context.Context, workspace string) error
	From     int           // the first step to run, from 0
	Shelf    *client.Shelf // where to read what runs have saved; nil for nowhere
}

// NewTrial makes a runner for trials, which claims nothing. It works as long as life at most; close it.
func NewTrial(life context.Context, c Config) (*Runner, error) {
	if err := os.MkdirAll(c.Home, 0o755); err != nil {
		return nil, err
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	r := &Runner{Config: c, identity: identity, place: c.Home, tools: newToolbox(c.Tools, c.Probes)}
	if r.Network == "" {
		r.Network = sandbox.NetworkAny
	}
	r.machine, err = sandbox.New(r.sandbox(), r.place, nil)
	if errors.Is(err, sandbox.ErrNoNetwork) {
		r.Network = sandbox.NetworkHost // a person's own machine, and their own work; the log says so
		r.machine, err = sandbox.New(r.sandbox(), r.place, nil)
	}
	if err != nil {
		return nil, err
	}
	if r.tier, err = tier.Open(filepath.Join(r.place, "tier"), r.Tier); err != nil {
		return nil, err
	}
	r.networks = r.machine.Networks(life, nextNetworkAfter/10)
	return r, r.machine.RefreshEtc()
}

// Close ends what a runner for trials has ready.
func (r *Runner) Close() { r.networks.Close() }

func (r *Runner) trial(t Trial) *job {
	j := r.job(task{work: t.Work, folder: t.Folder, post: t.Post})
	j.secrets = api.SealedSecrets{}
	for name, v := range t.Secrets {
		j.secrets[name] = slices.Clone(v) // the job's are wiped when it ends
	}
	j.from, j.stays, j.networks, j.shelf = t.From, true, r.networks, t.Shelf
	j.checkout = func(ctx context.Context) error { return t.Checkout(ctx, j.files.Source()) }
	return j
}

// Try runs a job. How it ended is told to its post.
func (r *Runner) Try(ctx context.Context, t Trial) { r.trial(t).do(ctx) }

// aShell is what a shell at a terminal is, and aReader what one is that reads from a pipe.
const (
	aShell  = "[ ! -x /bin/bash ] || exec /bin/bash --norc -i\nexec /bin/sh -i\n"
	aReader = "[ ! -x /bin/bash ] || exec /bin/bash --norc\nexec /bin/sh\n"
)

// Shell opens a shell in the workspace a trial has left, with the environment and secrets of one of its steps. It
// returns when the shell has ended.
func (r *Runner) Shell(ctx context.Context, t Trial, step int) (err error) {
	j := r.trial(t)
	if _, err := os.Stat(j.files.Source()); err != nil {
		return fmt.Errorf("there is no workspace of job %q yet; run it first, without --shell", t.Work.Job.Name)
	}
	defer j.wipe()
	if err := j.files.Make(); err != nil {
		return err
	}
	if err := j.openSecrets(); err != nil {
		return err
	}
	opened := j.open(ctx)
	defer j.box.Close()
	if err := opened.wait(); err != nil {
		return err
	}
	plain := *t.Work.Job.Step[step]
	plain.Shell = ""
	spec, err := j.carrying().Prepare(step, &plain, aShell)
	if err != nil {
		return err
	}
	defer func() {
		if undoErr := spec.CleanUp(); err == nil {
			err = undoErr
		}
	}()
	spec.Env["TERM"] = os.Getenv("TERM")
	return j.box.Interact(spec)
}
