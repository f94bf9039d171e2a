package source

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func repository(t *testing.T, files map[string]string, message string) (dir, commit string) {
	t.Helper()
	dir = t.TempDir()
	git := func(args ...string) string {
		cmd := exec.Command("git", args...)
		cmd.Dir = dir
		cmd.Env = append(Environment(map[string]string{"user.name": "Ada O'Hara <x", "user.email": "a@b.example"}), "GIT_AUTHOR_NAME=Äda", "GIT_AUTHOR_EMAIL=a@b.example")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	git("init", "-q", "-b", "main")
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	git("add", "-A")
	git("commit", "-q", "-m", message)
	git("tag", "-a", "v1", "-m", "a tag object")
	commit = git("rev-parse", "HEAD")
	return dir, commit[:len(commit)-1]
}

func TestReader(t *testing.T) {
	dir, commit := repository(t, map[string]string{"piston/a.toml": "a", "piston/ü b.toml": "long text", "VERSION": "1.2\n"}, "Fix 'it' $(id)\n\nBody.")
	repo, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	r, err := repo.Reader(t.Context())
	require.NoError(t, err)
	defer r.Close()

	for _, name := range []string{commit, "refs/heads/main", "refs/tags/v1"} {
		c, err := r.Commit(name)
		require.NoError(t, err, name)
		assert.Equal(t, Commit{ID: commit, Subject: "Fix 'it' $(id)", Message: "Fix 'it' $(id)\n\nBody.\n", Author: "Äda"}, c)
	}
	names, err := r.Names(commit, "piston")
	require.NoError(t, err)
	assert.Equal(t, []string{"a.toml", "ü b.toml"}, names)
	names, err = r.Names(commit, "nothing")
	require.NoError(t, err)
	assert.Empty(t, names)

	f, err := r.File(commit, "piston/ü b.toml", 100)
	require.NoError(t, err)
	assert.Equal(t, "long text", string(f.Text))
	f, err = r.File(commit, "piston/ü b.toml", 3)
	require.NoError(t, err)
	assert.Nil(t, f.Text)
	assert.EqualValues(t, 9, f.Size)

	for _, name := range []string{"refs/heads/gone", "refs/heads/a b", "x\nquit", "--help"} {
		_, err = r.Commit(name)
		assert.ErrorIs(t, err, ErrNoObject, name)
	}
	_, err = r.File(commit, "piston", 10)
	assert.ErrorIs(t, err, ErrNoObject, "a folder is no file")
}

func TestOpenSaysWhatIsMissing(t *testing.T) {
	_, err := Open(t.Context(), t.TempDir(), "")
	assert.ErrorIs(t, err, ErrNoRepository)
}

func TestAReaderThatIsStoppedSaysSo(t *testing.T) {
	dir, _ := repository(t, map[string]string{"a": "b"}, "First")
	repo, err := Open(t.Context(), dir, "")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	r, err := repo.Reader(ctx)
	require.NoError(t, err)
	defer r.Close()
	stop()
	require.Eventually(t, func() bool { _, _, _, err = r.Info("HEAD"); return err != nil }, 5*time.Second, time.Millisecond)
	assert.ErrorIs(t, err, context.Canceled)
}
