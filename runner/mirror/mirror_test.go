package mirror

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const tip = "0123456789012345678901234567890123456789"

func packs(names ...string) fs.FS {
	all := fstest.MapFS{}
	for _, n := range names {
		all["pack-"+n+".pack"] = &fstest.MapFile{Data: []byte(strings.Repeat(n, 1000))}
		all["pack-"+n+".idx"] = &fstest.MapFile{Data: []byte(n)}
	}
	return all
}

func opened(t *testing.T, dir string, most int64) *Mirrors {
	t.Helper()
	m, err := Open(dir, most)
	require.NoError(t, err)
	return m
}

func lent(t *testing.T, m *Mirrors, of string) *Mirror {
	t.Helper()
	b, err := m.Borrow(of)
	require.NoError(t, err)
	return b
}

func there(t *testing.T, dir string) []string {
	t.Helper()
	all, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	return all
}

func TestWhatWasKeptIsLentAgain(t *testing.T) {
	dir := t.TempDir()
	b := lent(t, opened(t, dir, 0), "tidewick")
	require.NoError(t, b.Keep(packs("a", "b"), tip, nil))
	require.NoError(t, b.Keep(packs("a", "b"), tip, map[string]string{"refs/remotes/origin/main": tip}))
	require.NoError(t, b.KeepLarge("cafe", strings.NewReader("large")))
	require.NoError(t, b.GiveBack())

	m := opened(t, dir, 0)
	again, other := lent(t, m, "tidewick"), lent(t, m, "another")
	tips, refs := again.Has()
	assert.Equal(t, []string{tip}, tips)
	assert.Equal(t, map[string]string{"refs/remotes/origin/main": tip}, refs)
	f, err := again.Large("cafe")
	require.NoError(t, err)
	f.Close()
	assert.NotEqual(t, again.Objects(), other.Objects())
	_, err = other.Large("cafe")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = again.Large("../about.json")
	assert.ErrorIs(t, err, fs.ErrNotExist, "a name is no path")
	list, err := os.ReadDir(filepath.Join(again.Objects(), "pack"))
	require.NoError(t, err)
	require.Len(t, list, 4)
	for _, e := range list {
		info, err := e.Info()
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o444), info.Mode(), "read by all, written by nobody")
	}
	info, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o711), info.Mode().Perm(), "where mirrors are is not to be listed")
}

func TestWhatIsHalfDoneGoes(t *testing.T) {
	dir := t.TempDir()
	b := lent(t, opened(t, dir, 0), "tidewick")
	require.NoError(t, b.Keep(packs("a"), tip, nil))
	killed := filepath.Join(b.Objects(), "pack", half+"123")
	require.NoError(t, os.WriteFile(killed, nil, 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "BEGUN", "objects"), 0o755))
	opened(t, dir, 0)
	assert.NoFileExists(t, killed)
	assert.NoDirExists(t, filepath.Join(dir, "BEGUN"))
	assert.Len(t, there(t, dir), 1)

	half := packs("c").(fstest.MapFS)
	delete(half, "pack-c.idx")
	assert.ErrorIs(t, b.Keep(half, strings.Repeat("c", 40), nil), fs.ErrNotExist)
	tips, _ := b.Has()
	assert.Equal(t, []string{tip}, tips, "what is not here whole is not said to be")
}

func TestMirrorsThatAreOldOrTooManyGo(t *testing.T) {
	dir := t.TempDir()
	m := opened(t, dir, 3000)
	first := lent(t, m, "first")
	require.NoError(t, first.Keep(packs("a", "b"), tip, nil))
	second := lent(t, m, "second")
	require.NoError(t, second.Keep(packs("c", "d"), tip, nil))
	assert.Len(t, there(t, dir), 2, "what is lent stays, whatever it takes")
	require.NoError(t, first.GiveBack())
	assert.NoDirExists(t, filepath.Dir(first.Objects()))
	assert.DirExists(t, second.Objects())

	// One in too many packs is begun anew, and gone when nobody needs it any more.
	for _, n := range strings.Split(strings.Repeat("x", mostPacks), "") {
		require.NoError(t, second.change(func(a *about) { a.Packs += len(n) }))
	}
	third := lent(t, m, "second")
	assert.NotEqual(t, second.Objects(), third.Objects())
	require.NoError(t, second.Keep(packs("e"), tip, nil))
	require.NoError(t, second.GiveBack())
	require.NoError(t, third.GiveBack())
	assert.NoDirExists(t, second.Objects())
	assert.DirExists(t, third.Objects())

	require.NoError(t, third.change(func(a *about) { a.Since = time.Now().Add(-oldest - time.Hour) }))
	fourth := lent(t, m, "second")
	assert.NotEqual(t, third.Objects(), fourth.Objects(), "what was removed from a project is not here for ever")

	require.NoError(t, fourth.Forget())
	require.NoError(t, fourth.Forget())
	assert.DirExists(t, fourth.Objects(), "while it is lent")
	require.NoError(t, fourth.GiveBack())
	assert.Empty(t, there(t, dir))
}
