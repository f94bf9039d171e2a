package source

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os/exec"
	"slices"
	"strings"
)

// IsCommitID tells whether a text is a full object id, of SHA-1 or SHA-256.
func IsCommitID(text string) bool {
	return (len(text) == 40 || len(text) == 64) && strings.Trim(text, "0123456789abcdef") == ""
}

// Pack packs one commit with all its files and without what was before it (gitformat-pack(5)), while it is read; of the
// files only those that none of the commits has that the reader has already. A reader that does not come to the end is
// closed all the same.
func (r Repo) Pack(ctx context.Context, commit string, had ...string) (io.ReadCloser, error) {
	if !IsCommitID(commit) {
		return nil, fmt.Errorf("%q: %w", commit, ErrNoObject)
	}
	without, err := r.trees(ctx, had)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(ctx)
	// What is packed in the repository goes as it is; of the rest nothing is compared, which costs more than it saves.
	cmd := command(ctx, r.Dir, "-c", "pack.compression=1", "pack-objects", "--revs", "--stdout", "--quiet",
		"--delta-base-offset", "--window=0")
	cmd.Stdin = strings.NewReader("--shallow " + commit + "\n" + commit + "\n" + without)
	p := &packed{cmd: cmd, stop: stop}
	cmd.Stderr = &p.complaint
	if p.out, err = cmd.StdoutPipe(); err == nil {
		err = cmd.Start()
	}
	if err != nil {
		stop()
		return nil, fmt.Errorf("starting git: %w", err)
	}
	// Of a commit that is not there git says so instead of packing anything.
	if _, err := io.ReadFull(p.out, p.first[:]); err != nil {
		p.Close()
		return nil, fmt.Errorf("commit %.12s: %w: %s", commit, ErrNoObject, strings.TrimSpace(p.complaint.String()))
	}
	p.left = p.first[:]
	return p, nil
}

// trees are the trees of commits, as revisions to leave out (gitrevisions(7)). Commits that are not here are no news:
// whoever has them may have them from a branch that is gone.
func (r Repo) trees(ctx context.Context, commits []string) (revisions string, err error) {
	commits = slices.DeleteFunc(slices.Clone(commits), func(c string) bool { return !IsCommitID(c) })
	if len(commits) == 0 {
		return "", nil
	}
	cmd := command(ctx, r.Dir, "cat-file", "--batch-check=%(objecttype) %(objectname)")
	cmd.Stdin = strings.NewReader(strings.Join(commits, "\n") + "\n")
	out, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("git cat-file: %w", err)
	}
	var b strings.Builder
	for line := range strings.Lines(string(out)) {
		if id, is := strings.CutPrefix(strings.TrimSpace(line), "commit "); is {
			b.WriteString("^" + id + "^{tree}\n")
		}
	}
	return b.String(), nil
}

// packed is a pack that is being made.
type packed struct {
	cmd       *exec.Cmd
	stop      context.CancelFunc
	out       io.ReadCloser
	first     [4]byte // that it has begun
	left      []byte  // of these
	complaint bytes.Buffer
}

// Read implements io.Reader. A pack that git cannot finish ends with an error.
func (p *packed) Read(b []byte) (int, error) {
	if len(p.left) > 0 {
		n := copy(b, p.left)
		p.left = p.left[n:]
		return n, nil
	}
	n, err := p.out.Read(b)
	if err == io.EOF {
		if waitErr := p.cmd.Wait(); waitErr != nil {
			err = fmt.Errorf("git pack-objects: %w: %s", waitErr, strings.TrimSpace(p.complaint.String()))
		}
	}
	return n, err
}

// Close ends git, should it still be at work.
func (p *packed) Close() error {
	p.stop()
	_ = p.cmd.Wait() // what it came to was told by Read
	return nil
}
