package runner

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/runner/mount"
	"gentlepiston.example/piston/runner/process"
	"gentlepiston.example/piston/runner/trees"
	"gentlepiston.example/piston/runner/workspace"
)

const overlaysIn = "PISTON_TEST_OVERLAYS_IN"

// Overlays are tried as root and as an ordinary user, each time by a process that is apart.
func TestFoldersLieBelowAWorkspace(t *testing.T) {
	if os.Getenv(overlaysIn) != "" {
		t.Skip("this is the inner one")
	}
	self, err := os.Executable()
	require.NoError(t, err)
	as := map[string][]string{"ourselves": {}}
	if os.Geteuid() == 0 {
		as["an ordinary user"] = []string{"setpriv", "--reuid", "12345", "--regid", "12345", "--clear-groups"}
	}
	for who, before := range as {
		t.Run(who, func(t *testing.T) {
			dir, err := os.MkdirTemp("", "overlays-*")
			require.NoError(t, err)
			t.Cleanup(func() { _ = os.RemoveAll(dir) })
			binary := filepath.Join(dir, "test")
			require.NoError(t, exec.Command("cp", self, binary).Run()) // where a user may go
			if len(before) > 0 {
				require.NoError(t, os.Chown(dir, 12345, 12345))
			}
			argv := append(before, binary, "-test.run=^TestInsideOverlays$", "-test.v")
			cmd := exec.Command(argv[0], argv[1:]...)
			cmd.Dir, cmd.Env = dir, append(os.Environ(), overlaysIn+"="+dir)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.Contains(t, string(out), "overlays were tried")
		})
	}
}

// TestInsideOverlays is what the other test starts.
func TestInsideOverlays(t *testing.T) {
	dir := os.Getenv(overlaysIn)
	if dir == "" {
		t.Skip("it is started by another test")
	}
	if !mount.Apart() {
		cmd := exec.Command(os.Args[0], os.Args[1:]...)
		cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
		mount.Separate(cmd)
		require.NoError(t, cmd.Run())
		return
	}
	owner := process.AccountOf(dir, 0)
	for seed := range uint64(25) {
		// Each time another account has the workspace than has saved what lies below it.
		as := process.AccountOf(dir, int(seed%3))
		layAndChange(t, filepath.Join(dir, fmt.Sprint(seed)), owner, as, rand.New(rand.NewPCG(seed, 5)))
		lookAndMake(t, filepath.Join(dir, fmt.Sprint("view", seed)), owner, as, rand.New(rand.NewPCG(seed, 6)))
	}
	fewAmongMany(t, filepath.Join(dir, "few"), owner)
	fmt.Println("overlays were tried")
}

// layAndChange holds that what a layer says of changes, put into the older tree, is what is there; and so once more
// with that layer below.
func layAndChange(t *testing.T, dir string, owner, as *process.Account, rng *rand.Rand) {
	ctx := t.Context()
	roots := []string{"a/depot", "depot"}
	lower := filepath.Join(dir, "layers, with: odd \\ names")
	for _, root := range roots {
		require.NoError(t, os.MkdirAll(filepath.Join(lower, root), 0o755))
		mess(t, filepath.Join(lower, root), rng, 60)
	}
	own(t, lower, owner)
	layers := []mount.Layer{{Dir: lower, Owner: owner.ID()}}
	older := treeOf(t, lower, roots)
	for round := range 3 {
		w := workspace.New(filepath.Join(dir, fmt.Sprint("job", round)), as)
		require.NoError(t, w.Make())
		require.NoError(t, w.Write("of-the-commit", "x"))
		require.NoError(t, w.Below.Lay(layers))
		require.Equal(t, contents(older), contents(treeOf(t, w.Source(), roots)), "what lies below is there")
		checkOwners(t, w.Source(), roots, as)
		for range 30 {
			disturb(t, w.Source(), rng)
		}
		own(t, w.Source(), as)
		want := treeOf(t, w.Source(), roots)
		upper, err := w.Below.OpenUpper()
		require.NoError(t, err)
		scanned, err := trees.ScanLayer(ctx, upper, roots)
		require.NoError(t, err)
		found, whole := scanned.Found, scanned.Above
		require.NoError(t, upper.Close())
		if !whole {
			for i := range found {
				if found[i].Kind == tree.File {
					found[i].Pieces = piecesOf(t, filepath.Join(w.Source(), found[i].Path))
				}
			}
			older = tree.Merge(older, trees.Changes(found))
			require.Equal(t, contents(want), contents(older), "round %d", round)
		}
		require.NoError(t, w.Below.Lift())
		text, err := w.ReadFile("of-the-commit")
		require.NoError(t, err)
		require.Equal(t, "x", string(text))
		if whole {
			require.NoError(t, w.Remove())
			return
		}
		next := filepath.Join(dir, fmt.Sprint("layer", round))
		for _, root := range roots {
			if _, err := w.Lstat(root); err == nil {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(next, root)), 0o755))
				require.NoError(t, os.Rename(filepath.Join(w.Source(), root), filepath.Join(next, root)))
			}
		}
		require.NoError(t, os.MkdirAll(next, 0o755))
		layers = append([]mount.Layer{{Dir: next, Owner: as.ID()}}, layers...)
		require.NoError(t, w.Remove())
	}
}

func own(t *testing.T, dir string, as *process.Account) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if err != nil || as == nil {
			return err
		}
		return as.Take(path)
	}))
}

func checkOwners(t *testing.T, dir string, roots []string, as *process.Account) {
	if as == nil {
		return
	}
	for _, root := range roots {
		if _, err := os.Lstat(filepath.Join(dir, root)); err != nil {
			continue
		}
		require.NoError(t, filepath.WalkDir(filepath.Join(dir, root), func(path string, d os.DirEntry, err error) error {
			require.NoError(t, err)
			info, err := d.Info()
			require.NoError(t, err)
			require.Equal(t, as.ID(), process.OwnerOf(info), path)
			return nil
		}))
	}
}

func treeOf(t *testing.T, dir string, roots []string) *tree.Tree {
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	found, err := trees.Scan(t.Context(), root, roots)
	require.NoError(t, err)
	for i := range found {
		if found[i].Kind == tree.File {
			found[i].Pieces = piecesOf(t, filepath.Join(dir, found[i].Path))
		}
	}
	return trees.Tree(roots, found)
}

// piecesOf stands for a file's content.
func piecesOf(t *testing.T, path string) []tree.Piece {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	if len(text) == 0 {
		return nil
	}
	p := tree.Piece{Len: int64(len(text))}
	copy(p.ID[:], text)
	return []tree.Piece{p}
}

// contents is what is at each path; twins are what they are another name of, since a layer breaks them up.
func contents(t *tree.Tree) map[string]string {
	m := map[string]string{}
	for i := range t.Entries {
		e := &t.Entries[i]
		at := e
		for k := range t.Entries {
			if e.Kind == tree.Twin && t.Entries[k].Path == e.Target {
				at = &t.Entries[k]
			}
		}
		m[e.Path] = fmt.Sprint(at.Kind, at.Mode, at.Target, at.Pieces)
	}
	return m
}

// mess puts files, folders and links into a folder.
func mess(t *testing.T, dir string, rng *rand.Rand, n int) {
	folders := []string{dir}
	var files []string
	for i := range n {
		at := filepath.Join(folders[rng.IntN(len(folders))], fmt.Sprint("n", i%20))
		if _, err := os.Lstat(at); err == nil {
			continue
		}
		switch k := rng.IntN(8); {
		case k < 2:
			require.NoError(t, os.Mkdir(at, 0o755))
			folders = append(folders, at)
		case k == 2:
			require.NoError(t, os.Symlink("n1", at))
		case k == 3 && len(files) > 0:
			require.NoError(t, os.Link(files[rng.IntN(len(files))], at))
		default:
			require.NoError(t, os.WriteFile(at, fmt.Append(nil, rng.Uint64()), 0o644))
			files = append(files, at)
		}
	}
}

// disturb changes something somewhere in a workspace.
func disturb(t *testing.T, source string, rng *rand.Rand) {
	var all, folders []string
	for _, root := range []string{"a/depot", "depot"} {
		_ = filepath.WalkDir(filepath.Join(source, root), func(path string, d os.DirEntry, err error) error {
			if err == nil {
				all = append(all, path)
				if d.IsDir() {
					folders = append(folders, path)
				}
			}
			return nil
		})
	}
	if len(all) == 0 || len(folders) == 0 {
		return
	}
	at, dir := all[rng.IntN(len(all))], folders[rng.IntN(len(folders))]
	switch rng.IntN(9) {
	case 0, 1:
		if rng.IntN(6) == 0 || at != filepath.Join(source, "depot") && at != filepath.Join(source, "a/depot") {
			require.NoError(t, os.RemoveAll(at))
		}
	case 2: // away, and made anew
		require.NoError(t, os.RemoveAll(dir))
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "n3"), []byte("anew"), 0o600))
	case 3:
		_ = os.Chmod(at, 0o711)
	case 4:
		_ = os.Rename(at, filepath.Join(dir, fmt.Sprint("m", rng.IntN(30)))) // of a folder from below it may be refused
	case 5:
		_ = os.Link(at, filepath.Join(dir, fmt.Sprint("l", rng.IntN(30))))
	case 6:
		if rng.IntN(3) == 0 && at != dir {
			_ = os.Remove(at)
			_ = unix.Mkfifo(at, 0o644)
		}
		if rng.IntN(10) == 0 {
			require.NoError(t, os.RemoveAll(filepath.Join(source, "a")))
		}
	default:
		name := filepath.Join(dir, fmt.Sprint("n", rng.IntN(20)))
		if info, err := os.Stat(name); err == nil && !info.Mode().IsRegular() {
			return // a pipe would wait for a reader
		}
		_ = os.WriteFile(name, fmt.Append(nil, rng.Uint64()), 0o644)
	}
}
