package tier

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func digest(n int) string { return strings.Repeat(fmt.Sprintf("%02x", n), 32) }

// kept keeps a tree in one layer of its own, and others.
func kept(t *testing.T, tier *Tier, n int, others ...Layer) Layer {
	t.Helper()
	m, err := tier.Make()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(m.Dir, "f"), []byte(digest(n)), 0o644))
	l := m.Layer(-1, 1000)
	tree, err := tier.Keep(digest(n), append([]Layer{l}, others...), []byte("written"))
	require.NoError(t, err)
	tree.LetGo()
	require.NoError(t, tier.Drop(m))
	at := time.Now().Add(time.Duration(n-100) * time.Minute)
	require.NoError(t, os.Chtimes(tier.in("trees", digest(n)+".json"), at, at))
	return l
}

func (t *Tier) layers() int {
	entries, _ := os.ReadDir(t.in("layers"))
	return len(entries)
}

func TestWhatIsUnusedLongestGoesFirst(t *testing.T) {
	dir := t.TempDir()
	tier, err := Open(dir, 3500)
	require.NoError(t, err)
	for n := range 3 {
		kept(t, tier, n)
	}
	first := tier.Find(digest(0)) // is used, and now the last
	require.NotNil(t, first)
	written, err := first.Written()
	require.NoError(t, err)
	assert.Equal(t, "written", string(written))
	text, err := os.ReadFile(filepath.Join(first.Dir(first.Layers[0]), "f"))
	require.NoError(t, err)
	assert.Equal(t, digest(0), string(text))
	kept(t, tier, 3)
	require.NoError(t, tier.Trim(3500))
	assert.Nil(t, tier.Find(digest(1)), "the longest unused")
	require.NoError(t, tier.Trim(1))
	again := tier.Find(digest(0))
	require.NotNil(t, again, "what is in use stays")
	again.LetGo()
	first.LetGo()

	tier, err = Open(dir, 3500)
	require.NoError(t, err)
	assert.NotNil(t, tier.Find(digest(0)), "it outlives its process")
	assert.Nil(t, tier.Find("../../etc"), "by a digest only")
	assert.Nil(t, tier.Find(digest(9)))
}

func TestLayersStayWhileATreeHasThem(t *testing.T) {
	tier, err := Open(t.TempDir(), 0)
	require.NoError(t, err)
	below := kept(t, tier, 1)
	kept(t, tier, 2, below)
	assert.Equal(t, 2, tier.layers())
	tree := tier.Find(digest(1))
	tree.LetGo()
	require.NoError(t, tree.Forget())
	assert.Equal(t, 2, tier.layers())
	tree = tier.Find(digest(2))
	require.NotNil(t, tree)
	tree.LetGo()
	require.NoError(t, tree.Forget())
	assert.Zero(t, tier.layers())
	_, err = tier.Keep(digest(3), make([]Layer, MostLayers+1), nil)
	assert.Error(t, err, "overlays have only so many")
	_, err = tier.Keep("x/../y", nil, nil)
	assert.Error(t, err)
}

func TestWhatIsHalfMadeGoes(t *testing.T) {
	dir := t.TempDir()
	tier, err := Open(dir, 0)
	require.NoError(t, err)
	kept(t, tier, 1)
	m, err := tier.Make() // and then the runner is killed
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(m.Dir, "shut"), 0o700))
	require.NoError(t, os.WriteFile(tier.in("trees", digest(2)+".tree"), []byte("half"), 0o600))
	require.NoError(t, os.WriteFile(tier.in("trees", digest(3)+".json"), []byte("{"), 0o600))
	require.NoError(t, os.WriteFile(tier.in("trees", digest(4)+".json"),
		[]byte(`{"layers":[{"name":"gone"}]}`), 0o600))
	tier, err = Open(dir, 0)
	require.NoError(t, err)
	assert.Equal(t, 1, tier.layers())
	entries, err := os.ReadDir(tier.in("trees"))
	require.NoError(t, err)
	assert.Len(t, entries, 2, "the tree that is whole, and its written form")
	assert.NotNil(t, tier.Find(digest(1)))
	for _, n := range []int{2, 3, 4} {
		assert.Nil(t, tier.Find(digest(n)))
	}
}
