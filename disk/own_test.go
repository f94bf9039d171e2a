package disk

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnOwnFileIsItsOwnersAndWhole(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new", "folder")
	file := filepath.Join(dir, "key")
	require.NoError(t, WriteOwn(file, []byte("one")))
	require.NoError(t, WriteOwn(file, []byte("two")))
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "two", string(text))
	for name, mode := range map[string]os.FileMode{file: 0o600, dir: 0o700} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), name)
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "no half is left beside it")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "taken"), 0o700))
	assert.Error(t, WriteOwn(filepath.Join(dir, "taken"), []byte("x")), "a folder is not replaced")
	assert.DirExists(t, filepath.Join(dir, "taken"))
}
