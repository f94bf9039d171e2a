package source

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

	"golang.org/x/crypto/ssh"

	"gentlepiston.example/piston/bridge"
)

// Landing makes one commit on a branch of a repository and pushes it. What it makes lies in a folder of its own, beside
// the repository's objects: only the push itself changes anything, and the other side's hooks decide about it.
type Landing struct {
	repo   Repo
	to     Remote
	dir    string
	env    []string
	signer ssh.Signer // nil: nothing is signed
}

// Person is who a commit is by.
type Person struct{ Name, Email string }

// OpenLanding prepares a landing on a remote, in a folder below another. Close it.
func (r Repo) OpenLanding(ctx context.Context, below string, to Remote) (*Landing, error) {
	if !to.mayBePushedTo() {
		return nil, fmt.Errorf("the service lands on repositories of its own disk, by https and by ssh; %.100s is neither",
			to.Address)
	}
	objects, err := r.git(ctx, "rev-parse", "--git-path", "objects")
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(below, 0o700); err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp(below, "landing-")
	if err != nil {
		return nil, err
	}
	l := &Landing{repo: r, to: to, dir: dir}
	at := strings.TrimSpace(string(objects))
	if !filepath.IsAbs(at) {
		at = filepath.Join(r.Dir, at)
	}
	// A push to a folder starts git on the other side without what our environment says, but for this file.
	settings := "[safe]\n\tdirectory = *\n[gc]\n\tauto = 0\n[protocol \"file\"]\n\tallow = always\n"
	err = errors.Join(os.WriteFile(filepath.Join(dir, "settings"), []byte(settings), 0o600), l.init(ctx),
		os.WriteFile(filepath.Join(dir, "git", "objects", "info", "alternates"), []byte(at+"\n"), 0o600))
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// Close removes what was made for it.
func (l *Landing) Close() error { return os.RemoveAll(l.dir) }

func (l *Landing) init(ctx context.Context) error {
	cmd := command(ctx, "", "init", "--quiet", "--bare", filepath.Join(l.dir, "git"))
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("making a folder for the commit: %w: %s", err, clean(string(out), 500))
	}
	return nil
}

func (l *Landing) command(ctx context.Context, args ...string) *exec.Cmd {
	config := map[string]string{"protocol.file.allow": "always"}
	if l.to.Token != "" {
		config["http."+l.to.Address+".extraHeader"] = "Authorization: Basic " + l.to.credentials()
	}
	if l.to.bySSH() {
		config["protocol.git.allow"] = "always" // to the bridge
	}
	cmd := exec.CommandContext(ctx, "git", args...)
	for _, e := range Environment(config) {
		if !strings.HasPrefix(e, "GIT_CONFIG_GLOBAL=") {
			cmd.Env = append(cmd.Env, e)
		}
	}
	cmd.Env = append(cmd.Env, "GIT_CONFIG_GLOBAL="+filepath.Join(l.dir, "settings"),
		"GIT_DIR="+filepath.Join(l.dir, "git"), "GIT_INDEX_FILE="+filepath.Join(l.dir, "index"))
	cmd.Env = append(cmd.Env, l.env...)
	cmd.Dir = l.dir
	cmd.WaitDelay = 5 * time.Second
	return cmd
}

func (l *Landing) run(ctx context.Context, in []byte, args ...string) (string, error) {
	cmd := l.command(ctx, args...)
	cmd.Stdin = bytes.NewReader(in)
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	if err := cmd.Run(); err != nil {
		if ctx.Err() != nil {
			return "", context.Cause(ctx)
		}
		return "", fmt.Errorf("git %s: %w: %s", args[0], err, clean(said.String(), 1000))
	}
	return strings.TrimSpace(out.String()), nil
}

// Commit makes a commit on top of another, with new content for some of its files. Their modes stay.
func (l *Landing) Commit(ctx context.Context, parent string, files map[string][]byte, by Person,
	message string) (string, error) {
	for _, who := range []string{"AUTHOR", "COMMITTER"} {
		l.env = append(l.env, "GIT_"+who+"_NAME="+by.Name, "GIT_"+who+"_EMAIL="+by.Email)
	}
	if _, err := l.run(ctx, nil, "read-tree", parent); err != nil {
		return "", err
	}
	for name, text := range files {
		entry, err := l.run(ctx, nil, "ls-files", "--stage", "-z", "--", ":(literal)"+name)
		mode, _, _ := strings.Cut(entry, " ")
		if err != nil || mode != "100644" && mode != "100755" {
			return "", errors.Join(err, fmt.Errorf("%s is no plain file at commit %.12s", name, parent))
		}
		blob, err := l.run(ctx, text, "hash-object", "-w", "--stdin")
		if err != nil {
			return "", err
		}
		if _, err := l.run(ctx, nil, "update-index", "--cacheinfo", mode+","+blob+","+name); err != nil {
			return "", err
		}
	}
	tree, err := l.run(ctx, nil, "write-tree")
	if err != nil {
		return "", err
	}
	commit, err := l.run(ctx, []byte(message), "commit-tree", tree, "-p", parent, "-F", "-")
	if err != nil || l.signer == nil {
		return commit, err
	}
	return l.sign(ctx, commit)
}

// SignBy makes it sign commits and tags by an SSH key, which is in PEM or OpenSSH's own form.
func (l *Landing) SignBy(key []byte) (err error) {
	l.signer, err = ssh.ParsePrivateKey(key)
	if err != nil {
		return fmt.Errorf("the key to sign by is no private SSH key without a passphrase: %w", err)
	}
	return nil
}

// text is what an object says.
func (l *Landing) text(ctx context.Context, kind, name string) ([]byte, error) {
	text, err := l.command(ctx, "cat-file", kind, name).Output()
	if err != nil {
		return nil, fmt.Errorf("git cat-file: %w", err)
	}
	return text, nil
}

// sign makes the same commit with a signature.
func (l *Landing) sign(ctx context.Context, commit string) (string, error) {
	text, err := l.text(ctx, "commit", commit)
	if err != nil {
		return "", err
	}
	sig, err := signSSH(l.signer, text)
	if err != nil {
		return "", err
	}
	return l.run(ctx, []byte(signed(string(text), sig)), "hash-object", "-t", "commit", "-w", "--stdin")
}

// Tag makes an annotated tag on a commit that was made; that of a try before gives way to it.
func (l *Landing) Tag(ctx context.Context, name, commit, message string) error {
	_, err := l.run(ctx, []byte(message), "tag", "--force", "--annotate", "--cleanup=whitespace", "--file=-", "--", name,
		commit)
	if err != nil || l.signer == nil {
		return err
	}
	text, err := l.text(ctx, "tag", "refs/tags/"+name)
	if err != nil {
		return err
	}
	sig, err := signSSH(l.signer, text)
	if err != nil {
		return err
	}
	made, err := l.run(ctx, append(text, sig+"\n"...), "hash-object", "-t", "tag", "-w", "--stdin")
	if err == nil {
		_, err = l.run(ctx, nil, "update-ref", "refs/tags/"+name, made)
	}
	return err
}

// ErrMoved says that a branch is not where it was any more.
var ErrMoved = errors.New("the branch has moved on")

// Refused is what the other side of a push said.
type Refused struct{ Said string }

func (r *Refused) Error() string { return "the push was refused: " + r.Said }

// Push sends refs, each as COMMIT:REF, all or none. ErrMoved when a branch has moved on meanwhile; else, when the other
// side does not take it, a Refused.
func (l *Landing) Push(ctx context.Context, refs ...string) error {
	address := l.to.Address
	if l.to.bySSH() {
		over, err := bridge.Open(ctx, bridge.Config{Program: bridge.Push, Key: l.to.Key, Hosts: []string{l.to.Host},
			Where: "piston project bot --host", Dial: dial, Refused: func(err error) error { return err }})
		if err != nil {
			return fmt.Errorf("the key to push with: %w", err)
		}
		defer over.Close()
		if address, _, err = over.Way(address); err != nil {
			return err
		}
	}
	args := append([]string{"push", "--atomic", "--porcelain", "--", address}, refs...)
	out, err := l.command(ctx, args...).CombinedOutput()
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return fmt.Errorf("the remote did not take the push in time: %w", context.Cause(ctx))
	}
	said := strings.ReplaceAll(clean(string(out), 4000), address, l.to.Address)
	if l.to.Token != "" {
		said = strings.NewReplacer(l.to.Token, "‹hidden›", l.to.credentials(), "‹hidden›").Replace(said)
	}
	for _, moved := range []string{"non-fast-forward", "fetch first", "cannot lock ref", "incorrect old value",
		"failed to update ref", "stale info"} {
		if strings.Contains(said, moved) {
			return ErrMoved
		}
	}
	if strings.Contains(said, "could not read Username") || strings.Contains(said, "Authentication failed") {
		said = "it takes no push with this password; is it the right one, and may it push?\n" + said
	}
	return &Refused{said}
}

// LastChange tells who has changed a line of a file last, as of a commit, and by which.
func (r Repo) LastChange(ctx context.Context, commit, file string, line int) (who, by string, err error) {
	out, err := r.git(ctx, "blame", "--porcelain", "-L", fmt.Sprintf("%d,%d", line, line), commit, "--", file)
	if err != nil {
		return "", "", err
	}
	lines := strings.Split(string(out), "\n")
	by, _, _ = strings.Cut(lines[0], " ")
	for _, l := range lines {
		if name, is := strings.CutPrefix(l, "author "); is {
			return author(name), by, nil
		}
	}
	return "", by, nil
}
