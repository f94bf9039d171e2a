package blob

import (
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBlobs(t *testing.T) {
	b, err := OpenFolder(t.TempDir() + "/new/folder")
	require.NoError(t, err)
	defer b.Close()
	ctx := t.Context()

	w, err := b.Put(ctx, "artifacts/1/ä b'c", strings.NewReader("hello"))
	require.NoError(t, err)
	assert.Equal(t, Written{5, "2cf24dba5fb0a30e26e83b2ac5b9e29e1b161e5c1fa7425e73043362938b9824"}, w)

	r, err := b.Open(ctx, "artifacts/1/ä b'c")
	require.NoError(t, err)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	assert.Equal(t, "hello", string(text))

	part := make([]byte, 3)
	_, err = b.At(ctx, "artifacts/1/ä b'c").ReadAt(part, 1)
	require.NoError(t, err)
	assert.Equal(t, "ell", string(part))

	broken := errors.New("the line was cut")
	_, err = b.Put(ctx, "half", io.MultiReader(strings.NewReader("half of it"), iotest.ErrReader(broken)))
	assert.ErrorIs(t, err, broken)
	_, err = b.Open(ctx, "half")
	assert.ErrorIs(t, err, ErrNotFound, "nothing half-written stays")

	require.NoError(t, b.Delete(ctx, "artifacts/1/ä b'c"))
	require.NoError(t, b.Delete(ctx, "artifacts/1/ä b'c"))
}
