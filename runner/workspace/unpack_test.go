package workspace

import (
	"archive/tar"
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packedOf packs headers as somebody else would; a regular file holds its name.
func packedOf(t *testing.T, headers ...tar.Header) *bytes.Buffer {
	t.Helper()
	var out bytes.Buffer
	packer, err := zstd.NewWriter(&out)
	require.NoError(t, err)
	tw := tar.NewWriter(packer)
	for _, h := range headers {
		h.Mode = 0o755
		if h.Typeflag == tar.TypeReg {
			h.Size = int64(len(h.Name))
		}
		require.NoError(t, tw.WriteHeader(&h))
		if h.Typeflag == tar.TypeReg {
			_, err := tw.Write([]byte(h.Name))
			require.NoError(t, err)
		}
	}
	require.NoError(t, tw.Close())
	require.NoError(t, packer.Close())
	return &out
}

func TestWhatIsTakenOutComesIntoAFolderAndNowhereElse(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "to")
	files, err := Unpack(dir, packedOf(t, tar.Header{Name: "out", Typeflag: tar.TypeDir},
		tar.Header{Name: "out/a", Typeflag: tar.TypeReg}, tar.Header{Name: ".git/hooks/x", Typeflag: tar.TypeReg},
		tar.Header{Name: "out/b", Typeflag: tar.TypeSymlink, Linkname: "a"},
		tar.Header{Name: "out/etc", Typeflag: tar.TypeSymlink, Linkname: "/etc"},
		tar.Header{Name: "out/up", Typeflag: tar.TypeSymlink, Linkname: "../../.."}))
	require.NoError(t, err)
	assert.Equal(t, []string{"out/a", "out/b"}, files)
	text, err := os.ReadFile(filepath.Join(dir, "out", "b"))
	require.NoError(t, err)
	assert.Equal(t, "out/a", string(text))
	assert.NoDirExists(t, filepath.Join(dir, ".git"))

	for _, name := range []string{"../x", "/x", "a/../../x"} {
		_, err := Unpack(dir, packedOf(t, tar.Header{Name: name, Typeflag: tar.TypeReg}))
		assert.ErrorContains(t, err, "no name below a folder", name)
	}
	_, err = Unpack(dir, packedOf(t, tar.Header{Name: "out/a", Typeflag: tar.TypeReg}))
	assert.ErrorIs(t, err, fs.ErrExist)
	_, err = Unpack(dir, packedOf(t, tar.Header{Name: "out/pipe", Typeflag: tar.TypeFifo}))
	assert.ErrorContains(t, err, "kind")
	require.NoError(t, os.Symlink("/tmp", filepath.Join(dir, "way")))
	_, err = Unpack(dir, packedOf(t, tar.Header{Name: "way/x", Typeflag: tar.TypeReg}))
	assert.Error(t, err, "a link that was there leads nowhere, either")
	_, err = Unpack(dir, bytes.NewReader([]byte("no archive")))
	assert.Error(t, err)
}
