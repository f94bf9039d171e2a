package artifact

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func workspace(t *testing.T) *os.Root {
	t.Helper()
	dir := t.TempDir()
	outside := filepath.Join(dir, "outside")
	work := filepath.Join(dir, "work")
	require.NoError(t, os.MkdirAll(filepath.Join(work, "out/deep"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(work, ".git"), 0o755))
	require.NoError(t, os.MkdirAll(outside, 0o755))
	for name, text := range map[string]string{"out/a.apk": "aa", "out/deep/b c'\"$.apk": "b", "out/note.txt": "n", ".git/x.apk": "no"} {
		require.NoError(t, os.WriteFile(filepath.Join(work, name), []byte(text), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(outside, "shadow"), []byte("secret"), 0o644))
	require.NoError(t, os.Symlink("a.apk", filepath.Join(work, "out/same.apk")))
	require.NoError(t, os.Symlink("../../outside/shadow", filepath.Join(work, "out/evil.apk")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(work, "out/etc.apk")))
	root, err := os.OpenRoot(work)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return root
}

func TestFindTakesFilesAndRefusesLinksThatLeave(t *testing.T) {
	found, err := Find(workspace(t).FS(), []string{"**/*.apk", "out/*.apk"})
	require.NoError(t, err)
	assert.Equal(t, []File{{"out/a.apk", 2}, {`out/deep/b c'"$.apk`, 1}, {"out/same.apk", 2}}, found.Files)
	assert.Len(t, found.Refused, 4, "each escaping link once for each glob: %v", found.Refused)
	for _, why := range found.Refused {
		assert.Contains(t, why, "leaves the workspace")
	}
}

func TestFindSaysWhatItCannotTake(t *testing.T) {
	fsys := workspace(t).FS()
	found, err := Find(fsys, []string{"out/deep"})
	require.NoError(t, err)
	require.Len(t, found.Refused, 1)
	assert.Contains(t, found.Refused[0], "out/deep/**")

	found, err = Find(fsys, []string{"nothing/here/*.apk"})
	require.NoError(t, err)
	assert.Empty(t, found.Files)

	for _, glob := range []string{"/etc/passwd", "../outside/*", "out/../../outside/*", ""} {
		_, err := Find(fsys, []string{glob})
		assert.ErrorIs(t, err, ErrOutside, glob)
	}
	_, err = Find(fsys, []string{"out/[a"})
	assert.Error(t, err)
}
