package imprint

import (
	"fmt"
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
	first, sums, err := Files(base, globs)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a.lock": "6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b",
		"sub/b.lock": "d4735e3a265e16eee03f59718b9b5d03019c07d8b6c51f90da3a666eec13ab35"}, sums)

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
	shape := Shape("depot", []string{"a", "b"}, "linux/amd64")
	k := Key(shape, Content{1})
	assert.Len(t, string(k), 64)
	assert.Len(t, k.Short(), 12)
	for _, other := range []string{
		Shape("depot2", []string{"a", "b"}, "linux/amd64"),
		Shape("depot", []string{"a,b"}, "linux/amd64"),
		Shape("depot", []string{"a", "b"}, "darwin/arm64"),
	} {
		assert.NotEqual(t, shape, other)
		assert.NotEqual(t, k, Key(other, Content{1}))
	}
	assert.NotEqual(t, k, Key(shape, Content{2}))
}

func TestDiffersNamesWhatIsNotTheSame(t *testing.T) {
	before := map[string]string{"a": "1", "b": "2", "gone": "", "same": "x"}
	assert.Equal(t, []string{"b", "gone", "new"}, Differs(before, map[string]string{"a": "1", "b": "3", "new": "", "same": "x"}))
	assert.Empty(t, Differs(before, before))
}

func TestAStepIsTheSameOnlyWhenAllIs(t *testing.T) {
	step := func() Step {
		return Step{Script: "make", Dir: ".", Env: map[string]string{"MODE": "fast"}, Tools: map[string]string{"make": "4.3"},
			System: "s", Platform: "linux/amd64", Secrets: map[string]int{"KEY": 1}, Files: map[string]string{"core/a.c": "1"},
			Outputs: []string{"out/*"}}
	}
	base := step()
	assert.Equal(t, base.Key(), step().Key())
	for what, change := range map[string]func(*Step){
		"the script": func(s *Step) { s.Script = "make all" }, "its folder": func(s *Step) { s.Dir = "core" },
		"the variable MODE": func(s *Step) { s.Env["MODE"] = "slow" }, "the tool make": func(s *Step) { s.Tools["make"] = "4.4" },
		"the system": func(s *Step) { s.System = "t" }, "the platform": func(s *Step) { s.Platform = "darwin/arm64" },
		"the secret KEY": func(s *Step) { s.Secrets["KEY"] = 2 }, "core/a.c": func(s *Step) { s.Files["core/a.c"] = "2" },
		"core/b.c": func(s *Step) { s.Files["core/b.c"] = "1" }, "its outputs": func(s *Step) { s.Outputs = nil },
	} {
		other := step()
		change(&other)
		assert.NotEqual(t, base.Key(), other.Key(), what)
		assert.Equal(t, []string{what}, Differs(base.Parts(), other.Parts()))
	}
	for i := range mostTold + 1 {
		base.Files[fmt.Sprintf("lib/part/deep/%d", i)] = "x"
	}
	assert.Less(t, len(base.Parts()), 20, "many are told by their folders")
	assert.Contains(t, base.Parts(), "lib/part/…")
}
