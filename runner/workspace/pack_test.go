package workspace

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func rootOf(t *testing.T) *os.Root {
	t.Helper()
	root, err := os.OpenRoot(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return root
}

func TestPackAndUnpack(t *testing.T) {
	from, to := rootOf(t), rootOf(t)
	require.NoError(t, from.MkdirAll("depot/deep", 0o755))
	require.NoError(t, from.WriteFile("depot/deep/ä file", []byte("text"), 0o640))
	require.NoError(t, from.WriteFile("depot/tool", []byte("#!/bin/sh\n"), 0o755))
	require.NoError(t, from.Symlink("deep/ä file", "depot/link"))
	require.NoError(t, from.WriteFile("outside", []byte("not packed"), 0o644))
	old := time.Date(2024, 2, 3, 4, 5, 6, 0, time.UTC)
	require.NoError(t, from.Chtimes("depot/tool", old, old))

	var packed bytes.Buffer
	require.NoError(t, pack(t.Context(), from, &packed, Bound{}, []string{"depot", "not/there"}))
	require.NoError(t, unpack(to, nil, &packed, []string{"depot"}))
	text, err := to.ReadFile("depot/link")
	require.NoError(t, err)
	assert.Equal(t, "text", string(text))
	info, err := to.Stat("depot/tool")
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o755), info.Mode().Perm())
	assert.True(t, info.ModTime().Equal(old), "build tools compare times")
	_, err = to.Stat("outside")
	assert.ErrorIs(t, err, os.ErrNotExist)

	assert.Equal(t, nothingThere{}, pack(t.Context(), from, &packed, Bound{}, []string{"gone"}))
}

// A saved copy comes from a job's workspace, and so from a stranger: it must not write outside its paths.
func TestUnpackRefusesWhatLeavesItsPaths(t *testing.T) {
	entry := func(entries ...*tar.Header) *bytes.Buffer {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, h := range entries {
			h.Size = 0
			require.NoError(t, w.WriteHeader(h))
		}
		require.NoError(t, w.Close())
		return &b
	}
	victim := t.TempDir()
	for name, b := range map[string]*bytes.Buffer{
		"dots":      entry(&tar.Header{Name: "depot/../../evil", Typeflag: tar.TypeReg, Mode: 0o644}),
		"absolute":  entry(&tar.Header{Name: "/etc/evil", Typeflag: tar.TypeReg, Mode: 0o644}),
		"elsewhere": entry(&tar.Header{Name: "piston/evil.toml", Typeflag: tar.TypeReg, Mode: 0o644}),
		"device":    entry(&tar.Header{Name: "depot/null", Typeflag: tar.TypeChar, Mode: 0o644, Devmajor: 1, Devminor: 3}),
		"hard link": entry(&tar.Header{Name: "depot/passwd", Typeflag: tar.TypeLink, Linkname: "/etc/passwd"}),
		"through a link": entry(&tar.Header{Name: "depot/out", Typeflag: tar.TypeSymlink, Linkname: victim},
			&tar.Header{Name: "depot/out/evil", Typeflag: tar.TypeReg, Mode: 0o644}),
	} {
		assert.Error(t, unpack(rootOf(t), nil, b, []string{"depot"}), name)
	}
	left, err := filepath.Glob(filepath.Join(victim, "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func tarOf(t *testing.T, files map[string]string) string {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for name, text := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: int64(len(text)), Mode: 0o755}))
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.String()
}

func TestWhatIsHandedOnStaysInTheWorkspace(t *testing.T) {
	for name, files := range map[string]map[string]string{
		"leaves":       {"../../escape": "x"},
		"git's folder": {".git/hooks/post-checkout": "#!/bin/sh\n"},
	} {
		root := rootOf(t)
		assert.Error(t, unpack(root, nil, strings.NewReader(tarOf(t, files)), []string{"."}), name)
	}
}
