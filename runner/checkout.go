package runner

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"gentlepiston.example/piston/source"
)

// checkoutCommit brings the commit, with its submodules, into the workspace. The token by which the service lets us read
// travels in git's environment only; nothing of it stays in the workspace.
func (j *job) checkoutCommit(ctx context.Context) error {
	began := time.Now()
	path, ok := j.work.Sources[j.work.Remote]
	if !ok {
		return fmt.Errorf("the service names no source for %s", j.work.Remote)
	}
	origin := j.Client.Address + path
	full := j.work.Job.History == "full"
	fetch := []string{"fetch", "--quiet", "--no-tags", "--depth=1", origin, j.work.Commit}
	if full {
		fetch = []string{"fetch", "--quiet", "--tags", origin, "+refs/heads/*:refs/remotes/origin/*", j.work.Commit}
	}
	for _, args := range [][]string{
		{"init", "--quiet", "--template=", "--initial-branch=piston"},
		fetch,
		{"checkout", "--quiet", "--force", "--detach", j.work.Commit},
	} {
		if err := j.git(ctx, args...); err != nil {
			return fmt.Errorf("checking out %.12s: %w", j.work.Commit, err)
		}
	}
	if err := j.nameOrigin(); err != nil {
		return err
	}
	if _, err := os.Lstat(filepath.Join(j.src, ".gitmodules")); err == nil {
		args := []string{"submodule", "--quiet", "update", "--init", "--recursive"}
		if !full {
			args = append(args, "--depth=1")
		}
		if err := j.git(ctx, args...); err != nil {
			return fmt.Errorf("checking out submodules: %w\nA submodule must be at an https address, or be the remote of a project that lends its source to this one (piston project lend)", err)
		}
	}
	j.say(outside, "checked out %.12s in %s", j.work.Commit, milliseconds(time.Since(began)))
	return nil
}

// nameOrigin writes where the source is from into the workspace's configuration, against which submodules resolve
// (git-config(1), Syntax: within quotes, backslash and quote are escaped). A git process would take milliseconds.
func (j *job) nameOrigin() error {
	f, err := os.OpenFile(filepath.Join(j.src, ".git", "config"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, "[remote \"origin\"]\n\turl = \"%s\"\n", strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(j.work.Remote))
	return errors.Join(err, f.Close())
}

func (j *job) git(ctx context.Context, args ...string) error {
	token, err := j.Client.Bearer()
	if err != nil {
		return err
	}
	config := map[string]string{"http." + j.Client.Address + "/.extraHeader": "Authorization: Bearer " + token}
	for remote, path := range j.work.Sources {
		config["url."+j.Client.Address+path+".insteadOf"] = remote
	}
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = j.src
	cmd.Env = source.Environment(config)
	ownGroup(cmd)
	cmd.Cancel = func() error { kill(cmd); return nil }
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(string(bytes.ToValidUTF8(out, nil))))
	}
	return nil
}

func milliseconds(d time.Duration) string {
	if d >= 10*time.Second {
		return d.Round(100 * time.Millisecond).String()
	}
	return fmt.Sprintf("%d ms", d.Milliseconds())
}
