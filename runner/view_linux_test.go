package runner

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/runner/mount"
	"gentlepiston.example/piston/runner/process"
	"gentlepiston.example/piston/runner/trees"
	"gentlepiston.example/piston/runner/workspace"
)

// lookAndMake holds that a step sees its inputs and nothing else, that what it makes comes into the workspace, and that
// whatever it does to its inputs is said and not done.
func lookAndMake(t *testing.T, dir string, owner, as *process.Account, rng *rand.Rand) {
	w := workspace.New(filepath.Join(dir, "job"), as)
	require.NoError(t, w.Make())
	require.NoError(t, os.MkdirAll(filepath.Join(w.Source(), "src"), 0o755))
	mess(t, filepath.Join(w.Source(), "src"), rng, 40)
	require.NoError(t, w.MakeFolder("out"))
	require.NoError(t, w.Write("out/old", "of before"))
	require.NoError(t, w.Write("README", "no input"))
	own(t, w.Source(), as)
	if rng.IntN(2) == 0 { // with a saved folder below it
		lower := filepath.Join(dir, "lower")
		require.NoError(t, os.MkdirAll(filepath.Join(lower, "depot"), 0o755))
		mess(t, filepath.Join(lower, "depot"), rng, 40)
		own(t, lower, owner)
		require.NoError(t, w.Below.Lay([]mount.Layer{{Dir: lower, Owner: owner.ID()}}))
	}
	var inputs []trees.Found
	for len(inputs) == 0 {
		var paths []string
		require.NoError(t, fs.WalkDir(w.FS(), ".", func(at string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && at != "out/old" && at != "README" && rng.IntN(4) > 0 {
				paths = append(paths, at)
			}
			return err
		}))
		var err error
		inputs, err = trees.Scan(t.Context(), w.Root(), paths)
		require.NoError(t, err)
	}
	for n, do := range []func(src, input string) error{
		func(src, _ string) error { return makeSome(src) },
		func(src, input string) error { return os.WriteFile(filepath.Join(src, input), []byte("other"), 0o644) },
		func(src, input string) error { return os.Remove(filepath.Join(src, input)) },
		func(src, input string) error {
			at := filepath.Dir(filepath.Join(src, input))
			return os.Rename(at, filepath.Join(src, "out-of-the-way"))
		},
		func(src, input string) error {
			at := filepath.Dir(filepath.Join(src, input))
			if err := os.RemoveAll(at); err != nil {
				return err
			}
			return os.MkdirAll(at, 0o755)
		},
		func(src, input string) error { return os.Chmod(filepath.Join(src, input), 0o600) },
		func(src, input string) error { // opened to be written, and left as it is
			f, err := os.OpenFile(filepath.Join(src, input), os.O_RDWR, 0)
			if err == nil {
				err = f.Close()
			}
			return err
		},
	} {
		before := seenIn(t, w.Source())
		v, err := workspace.NewView(t.Context(), w, n, inputs, ".", []string{"out/**"})
		require.NoError(t, err)
		require.Equal(t, "seen", filepath.Base(v.Part("src")), "it is laid above the workspace, not copied")
		files, want := seenIn(t, v.Part("src")), map[string]string{}
		for _, f := range inputs {
			want[f.Path] = before[f.Path]
		}
		require.Equal(t, want, files)
		input := ""
		for _, f := range inputs {
			if f.Kind == tree.File && f.Mode == 0o644 {
				input = f.Path
			}
		}
		if input == "" {
			require.NoError(t, v.Remove())
			continue
		}
		require.NoError(t, makeSome(v.Part("src")))
		cannot := do(v.Part("src"), input) // some of it the system refuses
		err = v.Harvest(t.Context())
		harmless := n == 0 || n == 6 || cannot != nil
		after := seenIn(t, w.Source())
		if harmless {
			require.NoError(t, err, "what it does by %d", n)
			require.Len(t, v.Outputs, 3)
			assert.Equal(t, "made", after["out/old"])
			assert.Equal(t, "made", after["out/deep/new"])
			assert.NotContains(t, after, "besides", "what is no output is gone")
		} else {
			require.ErrorContains(t, err, "among its inputs", "what it does by %d", n)
			assert.Equal(t, before, after)
		}
		for _, f := range inputs {
			assert.Equal(t, before[f.Path], after[f.Path])
		}
		require.NoError(t, v.Remove())
	}
	require.NoError(t, w.Remove())
}

// makeSome makes outputs, one of them of a name that is hidden, and something else.
func makeSome(src string) error {
	if err := os.MkdirAll(filepath.Join(src, "out", "deep"), 0o755); err != nil {
		return err
	}
	for _, name := range []string{"out/old", "out/deep/new", "besides"} {
		if err := os.WriteFile(filepath.Join(src, name), []byte("made"), 0o644); err != nil {
			return err
		}
	}
	_ = os.Remove(filepath.Join(src, "out", "link"))
	return os.Symlink("deep/new", filepath.Join(src, "out", "link"))
}

// seenIn is what files and links are below a folder.
func seenIn(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, err := filepath.Rel(dir, at)
		require.NoError(t, err)
		if target, err := os.Readlink(at); err == nil {
			all[name] = fmt.Sprint("to ", target)
			return nil
		}
		text, err := os.ReadFile(at)
		require.NoError(t, err)
		all[name] = string(text)
		return nil
	}))
	return all
}

// fewAmongMany holds that few files among very many others are copied: to hide these would take longer.
func fewAmongMany(t *testing.T, dir string, as *process.Account) {
	w := workspace.New(dir, as)
	require.NoError(t, w.Make())
	require.NoError(t, w.MakeFolder("src"))
	for n := range 3000 {
		require.NoError(t, os.WriteFile(filepath.Join(w.Source(), "src", fmt.Sprint(n)), []byte("x"), 0o644))
	}
	own(t, w.Source(), as)
	inputs, err := trees.Scan(t.Context(), w.Root(), []string{"src/7"})
	require.NoError(t, err)
	v, err := workspace.NewView(t.Context(), w, 0, inputs, ".", []string{"out/*"})
	require.NoError(t, err)
	assert.Equal(t, "src", filepath.Base(v.Part("src")))
	assert.Equal(t, map[string]string{"src/7": "x"}, seenIn(t, v.Part("src")))
	require.NoError(t, v.Remove())

	// A view that cannot be had, of all of them and so laid above, leaves nothing in the way.
	all, err := trees.Scan(t.Context(), w.Root(), []string{"src"})
	require.NoError(t, err)
	_, err = workspace.NewView(t.Context(), w, 1, all[1:], "src/7/deeper", []string{"out/*"})
	require.Error(t, err, "no step can work in a file")
	require.NoError(t, w.Remove())
	assert.NoDirExists(t, dir)
}
