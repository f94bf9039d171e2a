// Package checkout brings a commit into a workspace: by git from the service, its submodules through a gate that
// reaches nothing inside, large files in the place of their pointers. What a repository says is a stranger's word: git
// runs without rights, and goes by what the runner tells it only.
package checkout

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/bridge"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/reach"
	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/mirror"
	"gentlepiston.example/piston/runner/process"
	"gentlepiston.example/piston/runner/workspace"
	"gentlepiston.example/piston/source"
)

// Checkout is how one job's commit comes into its workspace.
type Checkout struct {
	Attempt *attempt.Attempt
	Files   *workspace.Workspace
	Service *client.Client
	CA      string         // file of the authorities that git believes; "" for the machine's
	Reach   reach.Policy   // what repositories may make it speak to
	Key     []byte         // opens submodules by ssh; nil without one
	Disk    int64          // bytes the job's files may take; 0 any
	Mirror  *mirror.Mirror // what this machine has of the repository; nil where nothing may be kept
}

// unmendable is what no second try mends.
type unmendable struct{ error }

func (e *unmendable) Unwrap() error { return e.error }

// Final tells so.
func (*unmendable) Final() {}

// Bring brings the commit, with its submodules, into the workspace. The token by which the service lets us read travels
// in git's environment only; nothing of it stays in the workspace.
func (c *Checkout) Bring(ctx context.Context) error {
	began := time.Now()
	work := c.Attempt.Work
	at, ok := work.Sources[work.Remote]
	if !ok {
		return fmt.Errorf("the service names no source for %s", work.Remote)
	}
	full := work.Job.History == "full"
	err := c.commit(ctx, at, full)
	away := errors.Is(err, client.ErrNotFound) || client.Passing(err) // for which the mirror is not to blame
	if err != nil && c.Mirror != nil && ctx.Err() == nil && !away {
		if err = c.anew(err); err == nil {
			err = c.commit(ctx, at, full)
		}
	}
	if err != nil {
		return fmt.Errorf("checking out %.12s: %w", work.Commit, err)
	}
	if _, err := c.Files.Lstat(".gitmodules"); err == nil {
		if err := c.submodules(ctx, full); err != nil {
			return err
		}
	}
	c.Attempt.Say(attempt.Outside, "checked out %.12s in %s", work.Commit, quantity.Span(time.Since(began)))
	return nil
}

// commit brings the commit itself.
func (c *Checkout) commit(ctx context.Context, source string, full bool) error {
	work := c.Attempt.Work
	err := c.begin(work.Commit, work.Remote)
	if err == nil {
		err = c.lean(full)
	}
	if err == nil && full {
		err = c.Attempt.Insist(ctx, "checking out", func() error {
			return c.git(ctx, "fetch", "--quiet", "--prune", "--tags", c.Service.Address+source,
				"+refs/heads/*:refs/remotes/origin/*", work.Commit)
		})
	} else if err == nil {
		err = c.Attempt.Insist(ctx, "checking out", func() error { return c.one(ctx, source, work.Commit) })
	}
	if err == nil {
		err = c.git(ctx, "checkout", "--quiet", "--force", "--detach", work.Commit)
	}
	if err != nil {
		return err
	}
	c.keep(ctx, full)
	return c.fillIn(ctx, ".", source)
}

// begin makes a repository without commits (gitrepository-layout(5)), as git init would, which takes a process of
// milliseconds. Its configuration says where the source is from, against which submodules resolve (git-config(1),
// Syntax: within quotes, backslash and quote are escaped).
func (c *Checkout) begin(commit, remote string) error {
	version, extensions := 0, ""
	if len(commit) == 64 {
		version, extensions = 1, "[extensions]\n\tobjectformat = sha256\n"
	}
	config := fmt.Sprintf("[core]\n\trepositoryformatversion = %d\n\tfilemode = true\n\tbare = false\n"+
		"\tlogallrefupdates = true\n%s[remote \"origin\"]\n\turl = \"%s\"\n", version, extensions,
		strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(remote))
	for _, dir := range []string{".git/objects/pack", ".git/objects/info", ".git/refs/heads", ".git/refs/tags"} {
		if err := c.Files.MakeFolder(dir); err != nil {
			return err
		}
	}
	return errors.Join(c.Files.Write(".git/HEAD", "ref: refs/heads/piston\n"), c.Files.Write(".git/config", config))
}

// one brings one commit with all its files, in one answer. That nothing was before it stands in .git/shallow
// (gitrepository-layout(5)); that the pack is whole, git sees by its sum.
func (c *Checkout) one(ctx context.Context, source, commit string) error {
	if c.has(commit) {
		return c.Files.Write(".git/shallow", commit+"\n")
	}
	pack, err := c.Service.Pack(ctx, source, commit, c.had()...)
	if errors.Is(err, client.ErrNotFound) {
		return &unmendable{err}
	}
	if err != nil {
		return err
	}
	defer pack.Close()
	if _, err := c.gitWith(ctx, ".", pack, nil, "index-pack", "--stdin"); err != nil {
		return err
	}
	return c.Files.Write(".git/shallow", commit+"\n")
}

// submodules brings what the repository names in .gitmodules. What it names is a stranger's word: git goes by a
// gate of ours, but to the service, where the sources are that are lent to this project.
func (c *Checkout) submodules(ctx context.Context, full bool) error {
	g, err := openGate(c.Reach)
	if err != nil {
		return err
	}
	defer g.close()
	m := &modules{Checkout: c, full: full,
		settings: map[string]string{"http.proxy": g.address(), "http.proxyAuthMethod": "basic"}}
	if opened := c.Attempt.Work.Job.Submodules; opened != nil {
		if len(c.Key) == 0 {
			return fmt.Errorf("checking out submodules: this run is not given the secret %s, which they are fetched with",
				opened.Key)
		}
		m.bridge, err = bridge.Open(ctx, bridge.Config{Program: bridge.Fetch, Key: c.Key, Hosts: opened.Hosts,
			Where: "submodules.hosts of the pipeline", Dial: g.dial, Refused: g.note})
		if err != nil {
			return fmt.Errorf("checking out submodules by the secret %s: %w", opened.Key, err)
		}
		defer m.bridge.Close()
	}
	err = c.Attempt.Insist(ctx, "checking out submodules", func() error {
		err := m.bring(ctx, ".", 0)
		if err != nil && len(g.refusals()) > 0 {
			return &unmendable{err}
		}
		return err
	})
	if err == nil || ctx.Err() != nil {
		return err
	}
	why := err.Error()
	if refused := g.refusals(); len(refused) > 0 {
		why = strings.Join(slices.Compact(refused), "\n")
	}
	return fmt.Errorf("checking out submodules: %s\nA submodule must be at an https address, at one by ssh that the "+
		"job's submodules "+
		"open, or be the remote of a project that lends its source to this one (piston project lend)", why)
}

// modules are the submodules of a checkout, and theirs.
type modules struct {
	*Checkout
	full     bool
	settings map[string]string // git's, for going out
	bridge   *bridge.Bridge    // to hosts that only a key opens; nil without one
}

// ways gives git's settings for going out to addresses, by the submodules' names: what is lent comes from the service,
// and what only a key opens by the bridge.
func (m *modules) ways(addresses map[string]string) (map[string]string, error) {
	settings := maps.Clone(m.settings)
	for name, address := range addresses {
		if lent, is := m.lent(address); is {
			settings["submodule."+name+".url"] = m.Service.Address + lent
			continue
		}
		if m.bridge == nil {
			continue
		}
		if strings.HasPrefix(strings.ToLower(address), "git:") {
			return nil, &unmendable{errors.New(address + " is not fetched by https or ssh")}
		}
		loopback, is, err := m.bridge.Way(address)
		if err != nil {
			return nil, &unmendable{err}
		}
		if is {
			settings["submodule."+name+".url"] = loopback
			settings["protocol.git.allow"] = "always"
		}
	}
	return settings, nil
}

// lent is where the service serves a repository from that is this project's, or lent to it.
func (m *modules) lent(address string) (source string, is bool) {
	source, is = m.Attempt.Work.Sources[strings.TrimSuffix(address, "/")]
	return source, is
}

// maxModuleDepth bounds submodules within submodules.
const maxModuleDepth = 10

// bring checks out the submodules of a folder of the workspace, then those within each.
func (m *modules) bring(ctx context.Context, dir string, depth int) error {
	if _, err := m.Files.Lstat(path.Join(dir, ".gitmodules")); err != nil {
		return nil // it has none
	}
	if depth == maxModuleDepth {
		return fmt.Errorf("%s: submodules within submodules, more than %d deep", dir, maxModuleDepth)
	}
	if _, err := m.gitIn(ctx, dir, nil, "submodule", "--quiet", "init"); err != nil {
		return err
	}
	urls, err := m.named(ctx, dir, "url")
	if err != nil {
		return err
	}
	settings, err := m.ways(urls)
	if err != nil {
		return err
	}
	args := []string{"submodule", "--quiet", "update"}
	if !m.full {
		args = append(args, "--depth=1")
	}
	if _, err := m.gitIn(ctx, dir, settings, args...); err != nil {
		return err
	}
	paths, err := m.named(ctx, dir, "path", "-f", ".gitmodules")
	if err != nil {
		return err
	}
	for name, at := range paths {
		inner := path.Join(dir, at)
		if _, err := m.Files.Lstat(path.Join(inner, ".git")); err != nil || !filepath.IsLocal(at) {
			continue // not one that this commit has
		}
		// Where it is from is what its own relative submodules count from, and a person would see.
		if _, err := m.gitIn(ctx, inner, nil, "config", "remote.origin.url", urls[name]); err != nil {
			return err
		}
		if lent, is := m.lent(urls[name]); is {
			if err := m.fillIn(ctx, inner, lent); err != nil {
				return err
			}
		}
		if err := m.bring(ctx, inner, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// named reads a setting of every submodule of a folder, by the submodules' names.
func (m *modules) named(ctx context.Context, dir, key string, from ...string) (map[string]string, error) {
	out, err := m.gitIn(ctx, dir, nil,
		append(append([]string{"config"}, from...), "-z", "--get-regexp", `^submodule\..*\.`+key+"$")...)
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 1 {
		return nil, nil // there is none (git-config(1))
	}
	if err != nil {
		return nil, err
	}
	values := map[string]string{}
	for entry := range strings.SplitSeq(out, "\x00") {
		name, value, ok := strings.Cut(entry, "\n")
		if ok {
			values[strings.TrimSuffix(strings.TrimPrefix(name, "submodule."), "."+key)] = value
		}
	}
	return values, nil
}

// git runs git in the workspace.
func (c *Checkout) git(ctx context.Context, args ...string) error {
	_, err := c.gitIn(ctx, ".", nil, args...)
	return err
}

// gitIn runs git in a folder of the workspace, with more settings than it always has, and gives what it prints.
func (c *Checkout) gitIn(ctx context.Context, dir string, more map[string]string, args ...string) (string, error) {
	return c.gitWith(ctx, dir, nil, more, args...)
}

// gitWith does so with something to read.
func (c *Checkout) gitWith(ctx context.Context, dir string, in io.Reader, more map[string]string,
	args ...string) (string, error) {
	token, err := c.Service.Bearer()
	if err != nil {
		return "", err
	}
	config := map[string]string{
		"fetch.unpackLimit":                           "1", // what was fetched stays a pack
		"http." + c.Service.Address + "/.extraHeader": "Authorization: Bearer " + token,
		"http." + c.Service.Address + "/.proxy":       proxyTo(c.Service.Address),
	}
	if c.CA != "" {
		config["http.sslCAInfo"] = c.CA
	}
	maps.Copy(config, more)
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = filepath.Join(c.Files.Source(), filepath.FromSlash(dir))
	cmd.Env = source.Environment(config)
	if c.Mirror != nil {
		cmd.Env = append(cmd.Env, "GIT_ALTERNATE_OBJECT_DIRECTORIES="+c.Mirror.Objects())
	}
	process.OwnGroup(cmd)
	c.Files.Account().Become(cmd) // what reads a stranger's repository has no rights
	cmd.Cancel = func() error { process.Kill(cmd); return nil }
	var out, complaint bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, &out, &complaint
	if err := cmd.Run(); err != nil {
		said := strings.ReplaceAll(string(bytes.ToValidUTF8(complaint.Bytes(), nil)), c.Files.Source()+"/", "")
		return "", fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(said))
	}
	return out.String(), nil
}

// proxyTo is the proxy by which the machine reaches an address, as its environment says; "" for none.
func proxyTo(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	proxy, err := http.ProxyFromEnvironment(&http.Request{URL: u})
	if err != nil || proxy == nil {
		return ""
	}
	return proxy.String()
}
