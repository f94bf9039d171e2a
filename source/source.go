// Package source reads a project's repository with the git program: which files a commit has and what they say.
//
// A remote that is a folder of this machine is read in place; of any other a bare mirror is kept. Git runs without
// the machine's and the user's configuration, without prompts and without hooks.
package source

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/core/plain"
)

var (
	// ErrNoRepository says that there is no repository where the project's remote points.
	ErrNoRepository = errors.New("no Git repository")
	// ErrNoObject says that the repository has no such commit, tree or file.
	ErrNoObject = errors.New("not in the repository")
)

// Repo is a bare repository on this machine.
type Repo struct{ Dir string }

// IsLocal reports whether a remote is a folder of this machine.
func IsLocal(remote string) bool { return filepath.IsAbs(remote) }

// Open finds the repository of a remote; mirror is the folder for a copy of one that is elsewhere. Fetch brings the
// copy up to date.
func Open(ctx context.Context, remote, mirror string) (Repo, error) {
	if IsLocal(remote) {
		for _, dir := range []string{remote, filepath.Join(remote, ".git")} {
			if isRepository(dir) {
				return Repo{dir}, nil
			}
		}
		return Repo{}, fmt.Errorf("%w at %s: is the path right, and may the service read it?", ErrNoRepository, remote)
	}
	if !isRepository(mirror) {
		if out, err := command(ctx, "", "init", "--bare", "--quiet", mirror).CombinedOutput(); err != nil {
			return Repo{}, fmt.Errorf("making a mirror: %w: %s", err, bytes.TrimSpace(out))
		}
	}
	return Repo{mirror}, nil
}

func isRepository(dir string) bool {
	_, err1 := os.Stat(filepath.Join(dir, "HEAD"))
	_, err2 := os.Stat(filepath.Join(dir, "objects"))
	return err1 == nil && err2 == nil
}

// Fetch brings a mirror up to date with its remote; a repository read in place needs none.
func (r Repo) Fetch(ctx context.Context, remote string) error {
	if IsLocal(remote) {
		return nil
	}
	if _, err := r.git(ctx, "fetch", "--quiet", "--prune", "--force", remote, "+refs/heads/*:refs/heads/*",
		"+refs/tags/*:refs/tags/*",
		"+refs/proposals/*:refs/proposals/*"); err != nil {
		return fmt.Errorf("fetching %s: %w", remote, err)
	}
	return r.followHead(ctx, remote)
}

// Environment is what every git of ours runs with: nothing of the machine's or the user's configuration, no
// prompts, only transports that cannot be turned into commands, and no quarrel about who owns a folder that an
// administrator has registered.
func Environment(config map[string]string) []string {
	env := []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "LC_ALL=C.UTF-8", "GIT_CONFIG_NOSYSTEM=1",
		"GIT_CONFIG_GLOBAL=/dev/null", "GIT_TERMINAL_PROMPT=0", "GIT_OPTIONAL_LOCKS=0"}
	settings := [][2]string{{"safe.directory", "*"}, {"protocol.allow", "never"}, {"protocol.http.allow", "always"},
		{"protocol.https.allow", "always"},
		{"core.hooksPath", "/dev/null"}, {"gc.auto", "0"}, {"maintenance.auto", "false"}, {"advice.detachedHead", "false"}}
	for k, v := range config {
		settings = append(settings, [2]string{k, v})
	}
	for i, s := range settings {
		env = append(env, fmt.Sprintf("GIT_CONFIG_KEY_%d=%s", i, s[0]), fmt.Sprintf("GIT_CONFIG_VALUE_%d=%s", i, s[1]))
	}
	return append(env, fmt.Sprintf("GIT_CONFIG_COUNT=%d", len(settings)))
}

func command(ctx context.Context, dir string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Env = Environment(nil)
	cmd.Dir = "/"
	if dir != "" {
		cmd.Env = append(cmd.Env, "GIT_DIR="+dir)
	}
	cmd.WaitDelay = 5 * time.Second
	return cmd
}

// Reader answers questions about a repository through one git process. Not safe for concurrent use.
type Reader struct {
	ctx context.Context // that of the process
	cmd *exec.Cmd
	in  io.WriteCloser
	out *bufio.Reader
}

// Reader starts a reader; Close ends it.
func (r Repo) Reader(ctx context.Context) (*Reader, error) {
	cmd := command(ctx, r.Dir, "cat-file", "--batch-command")
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting git: %w", err)
	}
	return &Reader{ctx, cmd, in, bufio.NewReader(out)}, nil
}

// Close ends the process.
func (r *Reader) Close() {
	r.in.Close()
	_ = r.cmd.Wait()
}

// silent says why git says nothing: it was stopped, or else.
func (r *Reader) silent(what string, err error) error {
	if stopped := context.Cause(r.ctx); stopped != nil {
		err = stopped
	}
	return fmt.Errorf("%s: %w", what, err)
}

// Info tells an object's id, type and size in bytes. ErrNoObject when there is none of that name.
func (r *Reader) Info(name string) (id, kind string, size int64, err error) {
	if strings.ContainsAny(name, "\n\r\x00") {
		return "", "", 0, fmt.Errorf("%q is %w", name, ErrNoObject)
	}
	if _, err := fmt.Fprintf(r.in, "info %s\n", name); err != nil {
		return "", "", 0, r.silent("asking git", err)
	}
	return r.header(name)
}

func (r *Reader) header(name string) (id, kind string, size int64, err error) {
	line, err := r.out.ReadString('\n')
	if err != nil {
		return "", "", 0, r.silent("git gave no answer", err)
	}
	fields := strings.Fields(line)
	if len(fields) != 3 {
		return "", "", 0, fmt.Errorf("%q is %w", name, ErrNoObject)
	}
	size, err = strconv.ParseInt(fields[2], 10, 64)
	if err != nil {
		return "", "", 0, fmt.Errorf("%q is %w", name, ErrNoObject) // such as "<name> missing" with a space in the name
	}
	return fields[0], fields[1], size, nil
}

// Content reads an object by id, whole.
func (r *Reader) Content(id string) ([]byte, error) {
	if _, err := fmt.Fprintf(r.in, "contents %s\n", id); err != nil {
		return nil, r.silent("asking git", err)
	}
	_, _, size, err := r.header(id)
	if err != nil {
		return nil, err
	}
	text := make([]byte, size+1) // git ends the content with a line break of its own
	if _, err := io.ReadFull(r.out, text); err != nil {
		return nil, fmt.Errorf("git gave half an answer: %w", err)
	}
	return text[:size], nil
}

// Commit is what a run needs to know of a commit.
type Commit struct {
	ID      string
	Subject string // first line of the message
	Message string
	Author  string // name only
}

// Commit resolves a branch, tag or object id to a commit.
func (r *Reader) Commit(name string) (Commit, error) {
	id, _, _, err := r.Info(name + "^{commit}")
	if err != nil {
		return Commit{}, err
	}
	text, err := r.Content(id)
	if err != nil {
		return Commit{}, err
	}
	head, message, _ := strings.Cut(string(text), "\n\n")
	c := Commit{ID: id}
	for line := range strings.Lines(head) {
		if who, is := strings.CutPrefix(line, "author "); is {
			c.Author, _, _ = strings.Cut(who, " <")
		}
	}
	c.Message = message
	c.Subject, _, _ = strings.Cut(strings.TrimSpace(message), "\n")
	c.Subject, c.Author = subject(c.Subject), author(c.Author)
	return c, nil
}

// subject and author are what a commit says of itself, as far as it is seen: neither turns a line
// around, nor moves in a terminal.
func subject(s string) string { return clean(plain.Line(s), 500) }
func author(s string) string  { return clean(plain.Line(s), 200) }

func clean(s string, most int) string {
	s = strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", ""), "\uFFFD")
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// File is a file of a commit.
type File struct {
	Path string
	Size int64
	Text []byte // nil when it is larger than asked for
}

// File reads a file of a commit, when it has at most most bytes.
func (r *Reader) File(commit, path string, most int64) (File, error) {
	id, kind, size, err := r.Info(commit + ":" + path)
	if err != nil || kind != "blob" {
		return File{}, fmt.Errorf("%s is %w at commit %.12s", path, ErrNoObject, commit)
	}
	f := File{Path: path, Size: size}
	if size <= most {
		f.Text, err = r.Content(id)
	}
	return f, err
}

// Names lists the names of the entries of a folder of a commit; none when there is no such folder.
func (r *Reader) Names(commit, dir string) ([]string, error) {
	id, kind, _, err := r.Info(commit + ":" + dir)
	if errors.Is(err, ErrNoObject) || err == nil && kind != "tree" {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	text, err := r.Content(id)
	if err != nil {
		return nil, err
	}
	// A tree is a row of entries: mode, space, name, NUL, object id in raw bytes (gitformat-pack; 20 bytes for
	// SHA-1, 32 for SHA-256).
	idBytes := len(commit) / 2
	var names []string
	for len(text) > 0 {
		_, rest, ok1 := bytes.Cut(text, []byte{' '})
		name, rest, ok2 := bytes.Cut(rest, []byte{0})
		if !ok1 || !ok2 || len(rest) < idBytes {
			return nil, fmt.Errorf("git gave a tree that cannot be read for %s", dir)
		}
		names = append(names, string(name))
		text = rest[idBytes:]
	}
	return names, nil
}
