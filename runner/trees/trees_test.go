package trees

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/tree"
)

// memory stores packs as a service does.
type memory struct {
	mu    sync.Mutex
	packs map[tree.PackID][]byte
	where map[chunk.ID]tree.Place
	fails bool
}

func newMemory() *memory {
	return &memory{packs: map[tree.PackID][]byte{}, where: map[chunk.ID]tree.Place{}}
}

func (m *memory) Known(_ context.Context, ids []chunk.ID) ([]tree.Place, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	list := make([]tree.Place, len(ids))
	for i, id := range ids {
		list[i] = m.where[id]
	}
	return list, nil
}

func (m *memory) AddPack(_ context.Context, pack []byte) (tree.PackID, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.fails {
		return 0, errors.New("no space left")
	}
	n, err := tree.ListLen(pack[len(pack)-tree.TailLen:])
	if err != nil {
		return 0, err
	}
	room := int64(len(pack)-tree.TailLen) - n
	blocks, err := tree.Listed(pack[room:len(pack)-tree.TailLen], room)
	if err != nil {
		return 0, err
	}
	id := tree.PackID(len(m.packs) + 1)
	m.packs[id] = bytes.Clone(pack)
	for _, b := range blocks {
		from := uint32(0)
		for _, p := range b.Pieces {
			m.where[p.ID] = tree.Place{Pack: id, Block: b.Block, From: from}
			from += p.Len
		}
	}
	return id, nil
}

func (m *memory) fetch(_ context.Context, pack tree.PackID, start, n int64, _ []byte) ([]byte, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	p, has := m.packs[pack]
	if !has {
		return nil, &Damaged{pack, errors.New("it is gone")}
	}
	return bytes.Clone(p[start : start+n]), nil
}

func (m *memory) size() (n int) {
	for _, p := range m.packs {
		n += len(p)
	}
	return n
}

// grow makes a folder with what there can be in one.
func grow(t *testing.T, dir string, rng *rand.Rand, entries int) {
	t.Helper()
	folders := []string{dir}
	var files []string
	noise := rand.NewChaCha8([32]byte{byte(rng.Uint32())})
	for i := range entries {
		at := filepath.Join(folders[rng.IntN(len(folders))], fmt.Sprintf("%c%d", "ab.-!\xfe"[rng.IntN(6)], i))
		switch rng.IntN(10) {
		case 0, 1:
			require.NoError(t, os.Mkdir(at, 0o755))
			folders = append(folders, at)
		case 2:
			require.NoError(t, os.Symlink("../"+fmt.Sprint(i)+"/nowhere", at))
		case 3:
			if len(files) > 0 {
				require.NoError(t, os.Link(files[rng.IntN(len(files))], at))
			}
		case 4: // with holes
			f, err := os.Create(at)
			require.NoError(t, err)
			_, err = f.WriteAt([]byte("island"), int64(rng.IntN(3_000_000)))
			require.NoError(t, err)
			require.NoError(t, f.Truncate(4_000_000))
			require.NoError(t, f.Close())
		default:
			text := make([]byte, []int{0, 10, 3000, 70_000, 900_000}[rng.IntN(5)])
			_, _ = noise.Read(text)
			require.NoError(t, os.WriteFile(at, text, os.FileMode([]int{0o644, 0o755, 0o400, 0o600}[rng.IntN(4)])))
			files = append(files, at)
		}
	}
	for _, dir := range folders[1:] {
		require.NoError(t, os.Chmod(dir, os.FileMode([]int{0o755, 0o700, 0o750}[rng.IntN(3)])))
		require.NoError(t, os.Chtimes(dir, time.Time{}, time.Unix(rng.Int64N(2_000_000_000), 123_456_789)))
	}
}

func rootOf(t *testing.T, dir string) *os.Root {
	t.Helper()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return root
}

func scanned(t *testing.T, dir string, paths ...string) []Found {
	t.Helper()
	found, err := Scan(t.Context(), rootOf(t, dir), paths)
	require.NoError(t, err)
	return found
}

// saved saves folders, and gives the tree after it was written and read again.
func saved(t *testing.T, m *memory, dir string, paths ...string) (*tree.Tree, int64) {
	t.Helper()
	found := scanned(t, dir, paths...)
	s := &Saver{Root: rootOf(t, dir), To: m}
	stored, err := s.Store(t.Context(), found)
	require.NoError(t, err)
	written, _ := Tree(Roots(paths), found).Encode()
	got, _, err := tree.Decode(written)
	require.NoError(t, err)
	return got, stored
}

// same holds that two folders have the same in them.
func same(t *testing.T, want, got string, paths ...string) {
	t.Helper()
	a, b := scanned(t, want, paths...), scanned(t, got, paths...)
	for _, list := range [][]Found{a, b} {
		for i := range list {
			list[i].Changed, list[i].holes = 0, false
			if list[i].Kind != tree.File {
				list[i].Size = 0
			}
		}
	}
	require.Equal(t, a, b)
	for i := range a {
		if a[i].Kind == tree.File {
			x, err := os.ReadFile(filepath.Join(want, a[i].Path))
			require.NoError(t, err)
			y, err := os.ReadFile(filepath.Join(got, a[i].Path))
			require.NoError(t, err)
			require.True(t, bytes.Equal(x, y), a[i].Path)
		}
	}
}

func TestATreeIsTheSameAfterwards(t *testing.T) {
	for seed := range uint64(8) {
		rng := rand.New(rand.NewPCG(seed, 1))
		before, m := t.TempDir(), newMemory()
		for _, root := range []string{"depot", "home"} {
			require.NoError(t, os.Mkdir(filepath.Join(before, root), 0o755))
			grow(t, filepath.Join(before, root), rng, 10+rng.IntN(200))
		}
		require.NoError(t, os.WriteFile(filepath.Join(before, "lone"), []byte("one file"), 0o640))
		got, _ := saved(t, m, before, "home", "depot", "lone", "not-there")
		after := t.TempDir()
		b := &Builder{Tree: got, Into: after}
		require.NoError(t, b.Build(t.Context(), m.fetch))
		same(t, before, after, "depot", "home", "lone")

		copied := t.TempDir()
		found := scanned(t, after, "depot", "home", "lone")
		b = &Builder{Tree: Tree([]string{"depot", "home", "lone"}, found), Into: copied}
		require.NoError(t, b.Copy(t.Context(), rootOf(t, after), found))
		same(t, before, copied, "depot", "home", "lone")
		assert.Less(t, allocated(t, copied), int64(20_000_000), "holes stay holes")
		assert.Less(t, allocated(t, after), int64(20_000_000), "holes stay holes")
	}
}

func allocated(t *testing.T, dir string) (n int64) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		var st unix.Stat_t
		if err == nil && unix.Lstat(path, &st) == nil && st.Size == 4_000_000 {
			n += st.Blocks * 512
		}
		return err
	}))
	return n
}

func TestWhatIsStoredIsNotStoredAgain(t *testing.T) {
	dir, m := t.TempDir(), newMemory()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "depot"), 0o755))
	grow(t, filepath.Join(dir, "depot"), rand.New(rand.NewPCG(3, 3)), 300)
	first, stored := saved(t, m, dir, "depot")
	assert.EqualValues(t, m.size(), stored)
	again, stored := saved(t, m, dir, "depot")
	assert.Zero(t, stored)
	assert.Equal(t, first, again)

	require.NoError(t, os.CopyFS(filepath.Join(dir, "other"), os.DirFS(filepath.Join(dir, "depot"))))
	_, stored = saved(t, m, dir, "other")
	assert.Less(t, stored, int64(10_000), "whatever its name is; but that what were holes are zeros now")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "depot", "new"), []byte("a new one"), 0o644))
	_, stored = saved(t, m, dir, "depot")
	assert.Less(t, stored, int64(300))
	assert.Positive(t, stored)
}

func TestWhatIsDamagedIsNeverTakenForTheFile(t *testing.T) {
	dir, m := t.TempDir(), newMemory()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "depot"), 0o755))
	grow(t, filepath.Join(dir, "depot"), rand.New(rand.NewPCG(5, 3)), 60)
	got, _ := saved(t, m, dir, "depot")
	var damaged *Damaged
	for i := range 40 {
		id := got.Packs()[i%len(got.Packs())]
		pack := slices.Clone(m.packs[id])
		at := i * 7919 % (len(pack) / 2)
		m.packs[id][at] ^= 1 << (i % 8)
		err := (&Builder{Tree: got, Into: t.TempDir()}).Build(t.Context(), m.fetch)
		if assert.ErrorAs(t, err, &damaged, "bit %d of byte %d", i%8, at) {
			assert.Equal(t, id, damaged.Pack)
		}
		m.packs[id] = pack
	}
	delete(m.packs, got.Packs()[0])
	err := (&Builder{Tree: got, Into: t.TempDir()}).Build(t.Context(), m.fetch)
	assert.ErrorAs(t, err, &damaged)
}

func TestAFullServiceSavesNothing(t *testing.T) {
	dir, m := t.TempDir(), newMemory()
	m.fails = true
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("tide"), 0o644))
	_, err := (&Saver{Root: rootOf(t, dir), To: m}).Store(t.Context(), scanned(t, dir, "a"))
	assert.ErrorContains(t, err, "no space left")
}

type finder struct{ bytes.Buffer }

func (f *finder) End() error {
	if bytes.Contains(f.Bytes(), []byte("secret")) {
		return errors.New("it holds a secret")
	}
	return nil
}

func TestEachFileIsLookedAtBeforeItIsStored(t *testing.T) {
	dir, m := t.TempDir(), newMemory()
	long := append(make([]byte, 600_000), "a secret"...)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), long, 0o644))
	s := &Saver{Root: rootOf(t, dir), To: m, Look: func(string) Look { return &finder{} }}
	_, err := s.Store(t.Context(), scanned(t, dir, "a"))
	assert.ErrorContains(t, err, "it holds a secret")
	assert.Empty(t, m.packs)
}

func TestLinksLeadNowhereWhileFilesAreRead(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "real"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "real", "f"), nil, 0o644))
	require.NoError(t, os.Symlink("real", filepath.Join(dir, "link")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(dir, "etc")))
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "real", "pipe"), 0o644))
	found := scanned(t, dir, "etc/passwd", "link/f", "real/f/g", "etc")
	require.Len(t, found, 1, "a root that is a link is that link")
	assert.Equal(t, tree.Link, found[0].Kind)
	require.Len(t, scanned(t, dir, "real"), 2, "what is no file is passed by")
}

func TestRootsAreInOrderAndNoneIsInAnother(t *testing.T) {
	assert.Equal(t, []string{"a", "b/c", "b!"}, Roots([]string{"b/c/", "b!", "./a", "a/x", "b/c/d", "a"}))
}

func TestAFileThatIsKnownToBeOnePieceIsTheSameWithoutBeingRead(t *testing.T) {
	dir := t.TempDir()
	for name, n := range map[string]int{"empty": 0, "small": 100, "whole": chunk.Whole, "large": 3 * chunk.Most} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), bytes.Repeat([]byte(name), n)[:n], 0o755))
	}
	require.NoError(t, os.Symlink("small", filepath.Join(dir, "link")))
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	found, err := Scan(t.Context(), root, []string{"empty", "small", "whole", "large", "link"})
	require.NoError(t, err)
	read, err := Sums(t.Context(), root, found)
	require.NoError(t, err)
	require.Len(t, read, 5)
	for i := range found {
		text, err := os.ReadFile(filepath.Join(dir, found[i].Path))
		require.NoError(t, err)
		if found[i].Kind == tree.File && len(text) > 0 && len(text) <= chunk.Whole {
			found[i].Pieces = []tree.Piece{{Len: int64(len(text)), ID: chunk.Sum(text)}}
			require.NoError(t, os.WriteFile(filepath.Join(dir, found[i].Path), nil, 0o755), "it is not looked at")
		}
	}
	known, err := Sums(t.Context(), root, found)
	require.NoError(t, err)
	assert.Equal(t, read, known)
}
