package source

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// in runs git in a folder.
func in(t *testing.T, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = append(Environment(map[string]string{"user.name": "Ada", "user.email": "a@b.example"}), "GIT_ALLOW_PROTOCOL=file")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

func write(t *testing.T, dir, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
}

func commit(t *testing.T, dir string, files map[string]string, message string) string {
	t.Helper()
	for name, text := range files {
		write(t, dir, name, text)
	}
	in(t, dir, "add", "-A")
	in(t, dir, "commit", "-q", "--allow-empty", "-m", message)
	return in(t, dir, "rev-parse", "HEAD")
}

func TestWhatChangedBetweenCommits(t *testing.T) {
	dir, first := repository(t, map[string]string{"a": "1", "old name": "a text that is moved"}, "First")
	repo, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	main, err := repo.MainBranch()
	require.NoError(t, err)
	assert.Equal(t, "main", main)
	in(t, dir, "mv", "old name", "ünï\nname")
	second := commit(t, dir, map[string]string{"a": "2", "b": "new"}, "Second\n\nBody")
	paths, err := repo.Changed(t.Context(), first, second)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"a", "b", "old name", "ünï\nname"}, paths, "a moved file counts with both names")
	same, err := repo.Changed(t.Context(), second, second)
	require.NoError(t, err)
	assert.Empty(t, same)
	log, err := repo.Log(t.Context(), first, second, 10)
	require.NoError(t, err)
	require.Len(t, log, 1)
	assert.Equal(t, Commit{ID: second, Subject: "Second", Author: "Ada"}, log[0])
	entries, err := repo.Tree(t.Context(), second)
	require.NoError(t, err)
	assert.Len(t, entries, 3)

	in(t, dir, "checkout", "-q", "--orphan", "other")
	lonely := commit(t, dir, nil, "Alone")
	_, err = repo.MergeBase(t.Context(), first, lonely)
	assert.ErrorIs(t, err, ErrNoObject)
	in(t, dir, "checkout", "-q", "--detach")
	main, err = repo.MainBranch()
	require.NoError(t, err)
	assert.Empty(t, main, "a detached HEAD names no branch")
}

func TestMergingAProposal(t *testing.T) {
	dir, first := repository(t, map[string]string{"a": "1\n", "b": "1\n"}, "First")
	repo, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	in(t, dir, "checkout", "-q", "-b", "feet")
	head := commit(t, dir, map[string]string{"b": "2\n"}, "Feet")
	same, err := repo.Merge(t.Context(), "feet", first, head)
	require.NoError(t, err)
	assert.Equal(t, head, same, "where the target has nothing more, it is the proposal itself")
	in(t, dir, "checkout", "-q", "main")
	target := commit(t, dir, map[string]string{"a": "3\n"}, "More")
	merged, err := repo.Merge(t.Context(), "feet", target, head)
	require.NoError(t, err)
	again, err := repo.Merge(t.Context(), "feet", target, head)
	require.NoError(t, err)
	assert.Equal(t, merged, again, "the same two give the same")
	assert.Equal(t, "3", in(t, dir, "show", merged+":a"))
	assert.Equal(t, "2", in(t, dir, "show", merged+":b"))
	assert.Equal(t, merged, in(t, dir, "rev-parse", "refs/piston/merged/"+merged), "kept from being collected")
	clash := commit(t, dir, map[string]string{"b": "4\n"}, "Clash")
	_, err = repo.Merge(t.Context(), "feet", clash, head)
	assert.ErrorIs(t, err, ErrConflict)
	assert.ErrorContains(t, err, "in b")
}

func TestTheBranchesOfABareRepository(t *testing.T) {
	dir, first := repository(t, map[string]string{"a": "1"}, "First")
	in(t, dir, "branch", "-m", "trunk")
	mirror := Repo{filepath.Join(t.TempDir(), "m.git")}
	in(t, t.TempDir(), "init", "-q", "--bare", "-b", "main", mirror.Dir)
	in(t, mirror.Dir, "fetch", "-q", dir, "+refs/heads/*:refs/heads/*")
	branches, err := mirror.Branches(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"trunk"}, branches)
	assert.Equal(t, first, in(t, mirror.Dir, "rev-parse", "trunk"))
}

func TestAWorkTreeAsItIs(t *testing.T) {
	dir, first := repository(t, map[string]string{"a": "1", "gone": "x", "piston/p.toml": "p", ".gitignore": "ignored\n"}, "First")
	in(t, dir, "remote", "add", "origin", "/srv/git/app.git")
	in(t, dir, "branch", "work/a")
	write(t, dir, "a", "2")
	write(t, dir, "loose file", "l")
	write(t, dir, "ignored", "i")
	require.NoError(t, os.Remove(filepath.Join(dir, "gone")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "a"), 0o755))
	in(t, dir, "update-index", "--chmod=+x", "piston/p.toml")
	w, err := OpenWorkTree(t.Context(), filepath.Join(dir, "piston"))
	require.NoError(t, err)
	assert.Equal(t, []string{"main", "work/a"}, w.Branches)
	assert.Equal(t, "main", w.Branch)
	assert.Equal(t, first, w.Commit)
	origin, err := w.Origin(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "/srv/git/app.git", origin)
	assert.Equal(t, []Entry{{Path: "loose file", Mode: "100644"}}, w.Loose)
	modes := map[string]string{}
	for _, e := range w.Entries {
		modes[e.Path] = e.Mode
	}
	assert.Equal(t, map[string]string{"a": "100644", "piston/p.toml": "100755", ".gitignore": "100644"}, modes, "what is gone is left out; modes are those Git has")
	paths, all := w.ChangedSince(t.Context(), "work/a")
	assert.False(t, all)
	assert.ElementsMatch(t, []string{"a", "gone", "loose file"}, paths)
	_, all = w.ChangedSince(t.Context(), "nowhere")
	assert.True(t, all)
	subject, author := w.About(t.Context())
	assert.Equal(t, "First Äda", subject+" "+author)

	copied := t.TempDir()
	require.NoError(t, w.CloneInto(t.Context(), copied, false))
	assert.Equal(t, first, in(t, copied, "rev-parse", "HEAD"))
	_, err = OpenWorkTree(t.Context(), t.TempDir())
	assert.ErrorIs(t, err, ErrNoWorkTree)
}

func TestWhatIsNoRepositoryIsSaidOnce(t *testing.T) {
	dir := t.TempDir()
	_, err := OpenWorkTree(t.Context(), dir)
	assert.ErrorIs(t, err, ErrNoWorkTree)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, ".git"), 0o700)) // which holds nothing
	_, err = OpenWorkTree(t.Context(), dir)
	require.Error(t, err)
	assert.Equal(t, 1, strings.Count(err.Error(), "not a git repository"), "%v", err)
	assert.NotContains(t, err.Error(), "\n")
}

// The way of a branch is its own commits, and of what was merged the merge; there is none from what it does not come
// from. What a commit says of itself is text on one line.
func TestTheStepsOfABranch(t *testing.T) {
	dir, first := repository(t, map[string]string{"a": "1"}, "First")
	repo, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	second := commit(t, dir, map[string]string{"a": "2"}, "\x1b[31mSe\u202econd\twith a tab")
	in(t, dir, "checkout", "-q", "-b", "side")
	commit(t, dir, map[string]string{"b": "1"}, "Aside")
	side := commit(t, dir, map[string]string{"b": "2"}, "Aside again")
	in(t, dir, "checkout", "-q", "main")
	in(t, dir, "merge", "-q", "--no-ff", "-m", "Merge side", "side")
	merged := in(t, dir, "rev-parse", "HEAD")
	steps, err := repo.Steps(t.Context(), first, merged, 10)
	require.NoError(t, err)
	assert.Equal(t, []Commit{{ID: merged, Subject: "Merge side", Author: "Ada"},
		{ID: second, Subject: "[31mSecond with a tab", Author: "Ada"}}, steps)
	few, err := repo.Steps(t.Context(), first, merged, 1)
	require.NoError(t, err)
	assert.Len(t, few, 1)
	none, err := repo.Steps(t.Context(), merged, merged, 9)
	require.NoError(t, err)
	assert.Empty(t, none)
	for _, gone := range []string{strings.Repeat("ab", 20), "--output=x", merged} {
		_, err = repo.Steps(t.Context(), gone, side, 9)
		require.ErrorIs(t, err, ErrNoObject, gone)
	}
	reader, err := repo.Reader(t.Context())
	require.NoError(t, err)
	defer reader.Close()
	c, err := reader.Commit(second)
	require.NoError(t, err)
	assert.Equal(t, "[31mSecond with a tab", c.Subject)
}
