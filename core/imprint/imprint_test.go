package imprint

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func tree(files map[string]string) fstest.MapFS {
	m := fstest.MapFS{}
	for name, text := range files {
		m[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return m
}

func TestFilesFollowsNamesAndBytes(t *testing.T) {
	base := tree(map[string]string{"a.lock": "1", "sub/b.lock": "2", "other": "3"})
	globs := []string{"**/*.lock"}
	first, names, err := Files(base, globs)
	require.NoError(t, err)
	assert.Equal(t, []string{"a.lock", "sub/b.lock"}, names)

	again, _, err := Files(tree(map[string]string{"a.lock": "1", "sub/b.lock": "2", "other": "changed"}), globs)
	require.NoError(t, err)
	assert.Equal(t, first, again, "files that are not followed do not count")

	for what, files := range map[string]map[string]string{
		"bytes": {"a.lock": "1", "sub/b.lock": "x"},
		"name":  {"a.lock": "1", "sub/c.lock": "2"},
		"moved": {"a.lock": "12", "sub/b.lock": ""},
	} {
		other, _, err := Files(tree(files), globs)
		require.NoError(t, err)
		assert.NotEqual(t, first, other, what)
	}
	_, _, err = Files(base, []string{"a.lock", "gone.lock"})
	assert.ErrorIs(t, err, ErrNothingFollowed)
	assert.ErrorContains(t, err, "gone.lock")
}

func TestKeyTellsEverythingApart(t *testing.T) {
	k := Key("depot", []string{"a", "b"}, "linux/amd64", Content{1})
	assert.Len(t, string(k), 64)
	assert.Len(t, k.Short(), 12)
	for _, other := range []CacheKey{
		Key("depot2", []string{"a", "b"}, "linux/amd64", Content{1}),
		Key("depot", []string{"a,b"}, "linux/amd64", Content{1}),
		Key("depot", []string{"a", "b"}, "darwin/arm64", Content{1}),
		Key("depot", []string{"a", "b"}, "linux/amd64", Content{2}),
	} {
		assert.NotEqual(t, k, other)
	}
}
