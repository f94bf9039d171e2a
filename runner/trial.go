package runner

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/disk"
)

// Trial is a job that is tried on this machine, without a service. Its folder outlives it, so that one can look
// around in what it left behind, or go on from a step of it.
type Trial struct {
	Work     *api.Work
	Folder   string
	Secrets  api.SealedSecrets
	Post     Post
	Checkout func(ctx context.Context, workspace string) error
	From     int // the first step to run, from 0
}

// NewTrial makes a runner for trials, which claims nothing.
func NewTrial(c Config) (*Runner, error) {
	if err := checkIsolation(c.Isolation); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(c.Home, 0o755); err != nil {
		return nil, err
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	r := &Runner{Config: c, identity: identity, place: c.Home, groups: findGroups(c.Log), space: disk.Of}
	if r.Network == "" {
		r.Network = NetworkAny
	}
	if err := r.findNetwork(); errors.Is(err, ErrNoNetwork) {
		r.Network = NetworkHost // a person's own machine, and their own work; the log says so
	} else if err != nil {
		return nil, err
	}
	return r, r.refreshEtc()
}

func (r *Runner) trial(t Trial) *job {
	j := r.job(t.Work, t.Folder, t.Post)
	j.secrets = api.SealedSecrets{}
	for name, v := range t.Secrets {
		j.secrets[name] = slices.Clone(v) // the job's are wiped when it ends
	}
	j.checkout, j.from, j.stays = func(ctx context.Context) error { return t.Checkout(ctx, j.src) }, t.From, true
	return j
}

// Try runs a job. How it ended is told to its post.
func (r *Runner) Try(ctx context.Context, t Trial) { r.do(ctx, r.trial(t)) }

// Shell opens a shell in the workspace a trial has left, with the environment and secrets of one of its steps. It
// returns when the shell has ended.
func (r *Runner) Shell(ctx context.Context, t Trial, step int) (err error) {
	j := r.trial(t)
	if _, err := os.Stat(j.src); err != nil {
		return fmt.Errorf("there is no workspace of job %q yet; run it first, without --shell", t.Work.Job.Name)
	}
	if err := j.openSecrets(); err != nil {
		return err
	}
	if j.root, err = os.OpenRoot(j.src); err != nil {
		return err
	}
	defer j.root.Close()
	if err := j.openNetwork(ctx); err != nil {
		return err
	}
	defer j.closeNetwork()
	spec, err := j.prepareStep(step, t.Work.Job.Step[step])
	if err != nil {
		return err
	}
	defer func() {
		if undoErr := spec.cleanUp(); err == nil {
			err = undoErr
		}
	}()
	spec.env["TERM"] = os.Getenv("TERM")
	spec.interactive = true
	if err := os.Chmod(spec.script, 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(spec.script, []byte("exec /bin/bash --norc -i 2>/dev/null || exec /bin/sh -i\n"),
		0o644); err != nil {
		return err
	}
	cmd, err := j.command(spec)
	if err != nil {
		return err
	}
	cmd.SysProcAttr = nil // the terminal's own group, so that it may read from it
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := j.openLaunchers(); err != nil {
		return err
	}
	defer j.closeLaunchers()
	if err := j.start(cmd, spec.network == "outside"); err != nil {
		return err
	}
	_ = cmd.Wait() // a shell's exit code is its last command's
	return nil
}
