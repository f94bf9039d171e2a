package source

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAPackHoldsOneCommitAndNothingOfBefore(t *testing.T) {
	dir := t.TempDir()
	git := func(dir string, in io.Reader, args ...string) string {
		cmd := exec.Command("git", args...)
		cmd.Dir, cmd.Stdin = dir, in
		cmd.Env = Environment(map[string]string{"user.name": "a", "user.email": "a@b.example"})
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	git(dir, nil, "init", "-q")
	for _, text := range []string{"first", "second"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, text), []byte(text+" file\n"), 0o644))
		git(dir, nil, "add", "-A")
		git(dir, nil, "commit", "-q", "-m", text)
		require.NoError(t, os.Remove(filepath.Join(dir, text)))
	}
	head := git(dir, nil, "rev-parse", "HEAD")
	repo, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	p, err := repo.Pack(t.Context(), head)
	require.NoError(t, err)
	text, err := io.ReadAll(p)
	require.NoError(t, err)
	require.NoError(t, p.Close())

	to := t.TempDir()
	git(to, nil, "init", "-q")
	git(to, bytes.NewReader(text), "index-pack", "--stdin")
	require.NoError(t, os.WriteFile(filepath.Join(to, ".git", "shallow"), []byte(head+"\n"), 0o644))
	git(to, nil, "checkout", "-q", "--detach", head)
	assert.FileExists(t, filepath.Join(to, "second"))
	assert.NoFileExists(t, filepath.Join(to, "first"), "it was removed by then")
	assert.Equal(t, "1", git(to, nil, "rev-list", "--count", "HEAD"))
	assert.Equal(t, head, git(to, nil, "rev-parse", "HEAD"))
	assert.Contains(t, git(to, nil, "count-objects", "-v"), "in-pack: 3\n", "the commit, its folder, its file")

	// What the reader has already does not come again, and what he says of commits that are not here is no news.
	older := git(dir, nil, "rev-parse", "HEAD~")
	for _, had := range [][]string{{head}, {older}, {strings.Repeat("0", 40), "--all", head + "\n--all", older, head}} {
		p, err := repo.Pack(t.Context(), head, had...)
		require.NoError(t, err)
		less, err := io.ReadAll(p)
		require.NoError(t, err)
		require.NoError(t, p.Close())
		fresh := t.TempDir()
		git(fresh, nil, "init", "-q")
		git(fresh, bytes.NewReader(less), "index-pack", "--stdin")
		want := "in-pack: 1\n"
		if had[0] == older {
			want = "in-pack: 3\n" // it has none of the files of the next
		}
		assert.Contains(t, git(fresh, nil, "count-objects", "-v"), want, "%v", had)
	}

	for _, none := range []string{"", "main", "HEAD", "--all", strings.Repeat("0", 40), strings.Repeat("A", 40), head + "\n--all", head[:39]} {
		_, err := repo.Pack(t.Context(), none)
		assert.ErrorIs(t, err, ErrNoObject, none)
	}
	half, err := repo.Pack(t.Context(), head)
	require.NoError(t, err)
	_, err = half.Read(make([]byte, 10))
	require.NoError(t, err)
	assert.NoError(t, half.Close(), "who has enough goes")
}
