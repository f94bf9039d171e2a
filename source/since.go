package source

import (
	"context"
	"fmt"
	"strings"
)

// maxMessages bounds the commits that are read to tell a version.
const maxMessages = 5000

// Since says which tag a release before has.
type Since struct {
	Not string // a tag that is not of it: that of the release itself
	// Whether tags of versions that came before a release, such as v2.0.0-rc.1, are passed by.
	Final bool
	// A commit that was released, maybe without a tag; "" when none is known.
	And string
}

// SinceTag gives the messages of the commits since the last tag that holds a number, newest first; of all when there is
// no such tag.
func (r Repo) SinceTag(ctx context.Context, commit string, since Since) ([]string, error) {
	return sinceTag(commit, since, func(args ...string) (string, error) {
		out, err := r.git(ctx, args...)
		return string(out), err
	})
}

// SinceTag gives the messages of the commits since the last tag that holds a number, as of what is checked out.
func (w *WorkTree) SinceTag(ctx context.Context, since Since) ([]string, error) {
	return sinceTag("HEAD", since, func(args ...string) (string, error) { return inTree(ctx, w.Dir, args...) })
}

func sinceTag(commit string, since Since, git func(args ...string) (string, error)) ([]string, error) {
	describe := []string{"describe", "--tags", "--abbrev=0", "--match", "*[0-9]*"}
	if since.Not != "" {
		describe = append(describe, "--exclude", since.Not)
	}
	if since.Final {
		describe = append(describe, "--exclude", "*[0-9]-[a-zA-Z]*")
	}
	from := []string{commit}
	if tag, err := git(append(describe, commit)...); err == nil {
		from = append(from, "^"+strings.TrimSpace(tag))
	}
	if since.And != "" {
		if _, err := git("cat-file", "-e", since.And+"^{commit}"); err == nil { // it may be gone, when history was rewritten
			from = append(from, "^"+since.And)
		}
	}
	out, err := git(append([]string{"log", "--no-merges", "-z", "--format=%B",
		fmt.Sprintf("--max-count=%d", maxMessages), "--end-of-options"}, from...)...)
	if err != nil {
		return nil, err
	}
	return strings.Split(strings.TrimRight(out, "\x00"), "\x00"), nil
}
