package source

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// git runs one git command in the repository and returns what it prints. What it complains of is in the error.
func (r Repo) git(ctx context.Context, args ...string) ([]byte, error) {
	cmd := command(ctx, r.Dir, args...)
	var complaint bytes.Buffer
	cmd.Stderr = &complaint
	out, err := cmd.Output()
	if err != nil {
		return out, fmt.Errorf("git %s: %w: %s", args[0], err, bytes.TrimSpace(complaint.Bytes()))
	}
	return out, nil
}

// followHead makes a mirror's HEAD name the branch that its remote's does.
func (r Repo) followHead(ctx context.Context, remote string) error {
	out, err := r.git(ctx, "ls-remote", "--symref", remote, "HEAD")
	if err != nil {
		return err
	}
	line, _, _ := strings.Cut(string(out), "\t")
	if ref, is := strings.CutPrefix(line, "ref: "); is && strings.HasPrefix(ref, "refs/heads/") {
		_, err = r.git(ctx, "symbolic-ref", "HEAD", ref)
	}
	return err
}

// FetchRef brings one more ref of a remote into its mirror; a repository read in place has it already.
func (r Repo) FetchRef(ctx context.Context, remote, ref string) error {
	if IsLocal(remote) {
		return nil
	}
	if _, err := r.git(ctx, "fetch", "--quiet", "--force", remote, "+"+ref+":refs/piston/fetched"); err != nil {
		return fmt.Errorf("fetching %s of %s: %w", ref, remote, err)
	}
	return nil
}

// MainBranch is the branch that HEAD names (gitrepository-layout(5)); "" when it names a commit.
func (r Repo) MainBranch() (string, error) {
	text, err := os.ReadFile(filepath.Join(r.Dir, "HEAD"))
	if err != nil {
		return "", err
	}
	branch, named := strings.CutPrefix(strings.TrimSpace(string(text)), "ref: refs/heads/")
	if !named {
		return "", nil
	}
	return branch, nil
}

// Branches lists the names of all branches.
func (r Repo) Branches(ctx context.Context) ([]string, error) {
	out, err := r.git(ctx, "for-each-ref", "--format=%(refname:lstrip=2)", "refs/heads/")
	return strings.Fields(string(out)), err
}

// Entry is one entry of a commit's tree.
type Entry struct {
	Path string
	Mode string // such as 100755; see gitformat-index(5)
	ID   string // of the object
}

// IsHeld reports whether a branch or a tag leads to a commit.
func (r Repo) IsHeld(ctx context.Context, commit string) (bool, error) {
	out, err := r.git(ctx, "for-each-ref", "--count=1", "--contains="+commit, "refs/heads", "refs/tags")
	return len(bytes.TrimSpace(out)) > 0, err
}

// Tree lists all files of a commit.
func (r Repo) Tree(ctx context.Context, commit string) ([]Entry, error) {
	var list []Entry
	err := r.each(ctx, func(entry string) error {
		about, name, ok := strings.Cut(entry, "\t")
		if fields := strings.Fields(about); ok && len(fields) == 3 { // mode, kind, id
			list = append(list, Entry{name, fields[0], fields[2]})
		}
		if len(list) > MaxFiles || len(name) > maxPath {
			return fmt.Errorf("commit %.12s holds %w: at most %d files, with paths of %d bytes", commit, ErrTooMuch, MaxFiles,
				maxPath)
		}
		return nil
	}, "ls-tree", "-r", "-z", "--full-tree", "--end-of-options", commit)
	return list, err
}

// MaxFiles is the most files of a commit that are read. A few small trees that hold each other many times come to more
// than any memory.
const MaxFiles = 400_000

// maxPath is the longest path of a file (Linux, PATH_MAX).
const maxPath = 4096

// ErrTooMuch says that a repository holds more than is read of one.
var ErrTooMuch = errors.New("more than the service reads")

// each gives the pieces, ended by NUL, of what a git command prints to take, until that wants no more.
func (r Repo) each(ctx context.Context, take func(piece string) error, args ...string) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	cmd := command(ctx, r.Dir, args...)
	var complaint bytes.Buffer
	cmd.Stderr = &complaint
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return fmt.Errorf("starting git: %w", err)
	}
	pieces := bufio.NewScanner(out)
	pieces.Buffer(nil, 1<<20)
	pieces.Split(untilNUL)
	var enough error
	for enough == nil && pieces.Scan() {
		enough = take(pieces.Text())
	}
	if enough == nil {
		enough = pieces.Err()
	}
	if enough != nil {
		stop()
	}
	if err := cmd.Wait(); err != nil && enough == nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, bytes.TrimSpace(complaint.Bytes()))
	}
	return enough
}

// untilNUL splits at NUL bytes (bufio.SplitFunc).
func untilNUL(data []byte, atEOF bool) (advance int, token []byte, err error) {
	if i := bytes.IndexByte(data, 0); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEOF && len(data) > 0 {
		return len(data), data, nil
	}
	return 0, nil, nil
}

// Changed lists the paths that differ between two commits; a renamed file counts with both names.
func (r Repo) Changed(ctx context.Context, before, after string) ([]string, error) {
	var list []string
	err := r.each(ctx, func(name string) error {
		if list = append(list, name); len(list) > 2*MaxFiles {
			return fmt.Errorf("what has changed is %w: at most %d files", ErrTooMuch, 2*MaxFiles)
		}
		return nil
	}, "diff-tree", "-r", "-z", "--name-only", "--no-renames", "--end-of-options", before, after)
	return list, err
}

// MergeBase finds the best common ancestor of two commits. ErrNoObject when they have none.
func (r Repo) MergeBase(ctx context.Context, a, b string) (string, error) {
	out, err := r.git(ctx, "merge-base", "--end-of-options", a, b)
	if exitedWith(err, 1) {
		return "", fmt.Errorf("a common ancestor of %.12s and %.12s is %w", a, b, ErrNoObject)
	}
	return strings.TrimSpace(string(out)), err
}

func exitedWith(err error, code int) bool {
	var exit *exec.ExitError
	return errors.As(err, &exit) && exit.ExitCode() == code
}

// Log lists up to most commits that after has and before has not, newest first.
func (r Repo) Log(ctx context.Context, before, after string, most int) ([]Commit, error) {
	return r.log(ctx, most, before+".."+after)
}

// Steps lists up to most changes by which a branch went from one commit to a later one, newest first: commits, and of
// what was merged the merge. ErrNoObject when the branch cannot have gone that way, since the first is no ancestor.
func (r Repo) Steps(ctx context.Context, before, after string, most int) ([]Commit, error) {
	_, err := r.git(ctx, "merge-base", "--is-ancestor", "--end-of-options", before, after)
	if exitedWith(err, 1) || exitedWith(err, 128) { // 128: one of them is no longer there
		return nil, fmt.Errorf("a way from %.12s to %.12s is %w", before, after, ErrNoObject)
	}
	if err != nil {
		return nil, err
	}
	return r.log(ctx, most, before+".."+after, "--first-parent")
}

func (r Repo) log(ctx context.Context, most int, revisions string, how ...string) ([]Commit, error) {
	args := append([]string{"log", "-z", "--format=%H%n%an%n%s", fmt.Sprintf("--max-count=%d", most)}, how...)
	out, err := r.git(ctx, append(args, "--end-of-options", revisions)...)
	if err != nil {
		return nil, err
	}
	var list []Commit
	for entry := range strings.SplitSeq(strings.TrimRight(string(out), "\x00"), "\x00") {
		if parts := strings.SplitN(entry, "\n", 3); len(parts) == 3 {
			list = append(list, Commit{ID: parts[0], Author: author(parts[1]), Subject: subject(parts[2])})
		}
	}
	return list, nil
}

// ErrConflict says that a proposal cannot be merged into its target.
var ErrConflict = errors.New("the proposal conflicts with its target")

// Merge makes the commit that comes of merging a proposal's head into its target, and keeps it under
// refs/piston/merged/. The same two commits give the same result. ErrConflict names the files that conflict.
func (r Repo) Merge(ctx context.Context, proposal, target, head string) (commit string, err error) {
	base, err := r.MergeBase(ctx, target, head)
	if err != nil {
		return "", err
	}
	if base == target {
		return head, nil // the target has nothing that the proposal has not
	}
	out, err := r.git(ctx, "merge-tree", "--write-tree", "--name-only", "-z", "--no-messages", target, head)
	parts := strings.Split(strings.TrimRight(string(out), "\x00"), "\x00")
	if exitedWith(err, 1) && len(parts) > 1 {
		return "", fmt.Errorf("%w in %s", ErrConflict, strings.Join(parts[1:], ", "))
	}
	if err != nil {
		return "", err
	}
	cmd := command(ctx, r.Dir, "commit-tree", "-p", target, "-p", head, "-m", "Merge proposal "+proposal, parts[0])
	for _, who := range []string{"AUTHOR", "COMMITTER"} {
		// The time is that of the proposal's commit, so that the same merge is the same commit.
		at, err := r.git(ctx, "log", "-1", "--format=%ct +0000", head)
		if err != nil {
			return "", err
		}
		cmd.Env = append(cmd.Env, "GIT_"+who+"_NAME=Gentle Piston", "GIT_"+who+"_EMAIL=piston@localhost",
			"GIT_"+who+"_DATE="+strings.TrimSpace(string(at)))
	}
	made, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("git commit-tree: %w: %s", err, bytes.TrimSpace(made))
	}
	commit = strings.TrimSpace(string(made))
	_, err = r.git(ctx, "update-ref", "refs/piston/merged/"+commit, commit)
	return commit, err
}
