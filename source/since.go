package source

import (
	"context"
	"fmt"
	"strings"
)

// maxMessages bounds the commits that are read to tell a version.
const maxMessages = 5000

// SinceTag gives the messages of the commits since the last tag that holds a number, newest first; of all when there is
// no such tag.
func (r Repo) SinceTag(ctx context.Context, commit string) ([]string, error) {
	return sinceTag(commit, func(args ...string) (string, error) {
		out, err := r.git(ctx, args...)
		return string(out), err
	})
}

// SinceTag gives the messages of the commits since the last tag that holds a number, as of what is checked out.
func (w *WorkTree) SinceTag(ctx context.Context) ([]string, error) {
	return sinceTag("HEAD", func(args ...string) (string, error) { return inTree(ctx, w.Dir, args...) })
}

func sinceTag(commit string, git func(args ...string) (string, error)) ([]string, error) {
	from := commit
	if tag, err := git("describe", "--tags", "--abbrev=0", "--match", "*[0-9]*", commit); err == nil {
		from = strings.TrimSpace(tag) + ".." + commit
	}
	out, err := git("log", "--no-merges", "-z", "--format=%B", fmt.Sprintf("--max-count=%d", maxMessages),
		"--end-of-options", from)
	if err != nil {
		return nil, err
	}
	return strings.Split(strings.TrimRight(out, "\x00"), "\x00"), nil
}
