package tree

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/chunk"
)

// sample is a tree of everything there can be.
func sample() *Tree {
	piece := func(text string, at Place) Piece {
		return Piece{Len: int64(len(text)), ID: chunk.Sum([]byte(text)), At: at}
	}
	one := Place{Pack: 7, Block: Block{Start: 0, Packed: 20, Raw: 30}}
	two := Place{Pack: 3, Block: Block{Start: 90, Packed: 10, Raw: 12}, From: 4}
	return &Tree{Roots: []string{"depot", "lone"}, Entries: []Entry{
		{Path: "depot", Kind: Folder, Mode: 0o755, Time: 5},
		{Path: "depot/a", Kind: Folder, Mode: 0o700, Time: -4},
		{Path: "depot/a/x", Kind: File, Mode: 0o644, Time: 1 << 60, Pieces: []Piece{piece("tide", one), {Len: 4096, Hole: true},
			piece("ebb", two)}},
		{Path: "depot/a/y", Kind: Twin, Target: "depot/a/x"},
		{Path: "depot/a!", Kind: File, Mode: 0o111},
		{Path: "depot/\xff\xfe", Kind: Link, Target: "../../elsewhere"},
		{Path: "lone", Kind: File, Mode: 0o600, Pieces: []Piece{piece("tide", one)}},
	}}
}

func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	for what, want := range map[string]*Tree{"everything": sample(), "nothing": {Roots: []string{"a"}, Entries: []Entry{}}} {
		written, digest := want.Encode()
		got, again, err := Decode(written)
		require.NoError(t, err, what)
		assert.Equal(t, want, got, what)
		assert.Equal(t, digest, again, what)
		assert.Equal(t, digest, want.Digest(), what)
	}
	n, size := sample().Files()
	assert.Equal(t, 3, n)
	assert.EqualValues(t, 4+4096+3+4, size)
	assert.Equal(t, []PackID{7, 3}, sample().Packs())
}

func TestTheDigestIsOfTheContentWhereverItIsStored(t *testing.T) {
	moved := sample()
	for i := range moved.Entries {
		for k := range moved.Entries[i].Pieces {
			moved.Entries[i].Pieces[k].At = Place{Pack: 99, Block: Block{Start: 1, Packed: 2, Raw: 40}}
		}
	}
	assert.Equal(t, sample().Digest(), moved.Digest())
	for what, change := range map[string]func(*Tree){
		"a name": func(t *Tree) { t.Entries[4].Path = "depot/a#" }, "a mode": func(t *Tree) { t.Entries[4].Mode = 0 },
		"a time": func(t *Tree) { t.Entries[0].Time++ }, "a link": func(t *Tree) { t.Entries[5].Target = "x" },
		"a piece": func(t *Tree) { t.Entries[2].Pieces[0].ID[31]++ },
		"a hole":  func(t *Tree) { t.Entries[2].Pieces[1].Len++ },
	} {
		other := sample()
		change(other)
		assert.NotEqual(t, sample().Digest(), other.Digest(), what)
	}
}

func TestATreeThatLiesIsRefused(t *testing.T) {
	for what, lie := range map[string]func(*Tree){
		"a path that leads out":        func(t *Tree) { t.Entries[4].Path = "depot/../../etc" },
		"one from the top":             func(t *Tree) { t.Entries[6].Path = "/lone" },
		"one beside the roots":         func(t *Tree) { t.Entries[6].Path = "other" },
		"an empty name":                func(t *Tree) { t.Entries[4].Path = "depot//a" },
		"a NUL":                        func(t *Tree) { t.Entries[4].Path = "depot/a\x00" },
		"a folder that is none":        func(t *Tree) { t.Entries[1].Kind, t.Entries[1].Target = Link, "/etc" },
		"a folder that is missing":     func(t *Tree) { t.Entries = slices.Delete(t.Entries, 1, 2) },
		"an order that is none":        func(t *Tree) { t.Entries[1], t.Entries[4] = t.Entries[4], t.Entries[1] },
		"the same twice":               func(t *Tree) { t.Entries[4] = t.Entries[3] },
		"a twin of what comes later":   func(t *Tree) { t.Entries[3].Target = "lone" },
		"a twin of a link":             func(t *Tree) { t.Entries[3].Target = "depot" },
		"a link to nowhere":            func(t *Tree) { t.Entries[5].Target = "" },
		"a kind that is none":          func(t *Tree) { t.Entries[4].Kind = 9 },
		"a piece beyond its block":     func(t *Tree) { t.Entries[2].Pieces[0].At.From = 27 },
		"a piece that is too long":     func(t *Tree) { t.Entries[2].Pieces[0].Len = chunk.Most + 1 },
		"a block that is too long":     func(t *Tree) { t.Entries[2].Pieces[0].At.Block.Raw = MaxBlock + 1 },
		"a hole that is too long":      func(t *Tree) { t.Entries[2].Pieces[1].Len = maxLen + 1 },
		"a root that leads out":        func(t *Tree) { t.Roots = []string{"../a"} },
		"no root":                      func(t *Tree) { t.Roots = nil },
		"the repository's own":         func(t *Tree) { t.Roots = []string{".Git/hooks", "depot", "lone"} },
		"roots in no order":            func(t *Tree) { t.Roots = []string{"lone", "depot"} },
		"a name longer than there are": func(t *Tree) { t.Entries[6].Path = "lone/" + string(make([]byte, 300)) },
	} {
		liar := sample()
		lie(liar)
		written, _ := liar.Encode()
		_, _, err := Decode(written)
		assert.ErrorIs(t, err, ErrDamaged, what)
	}
}

func TestTheOrderIsThatOfAWalk(t *testing.T) {
	tree := fstest.MapFS{}
	rng := rand.New(rand.NewPCG(1, 2))
	for range 400 {
		path := fmt.Sprintf("%c", "ab.-!"[rng.IntN(5)])
		for range rng.IntN(5) {
			path += fmt.Sprintf("/%c%c", "ab.-!"[rng.IntN(5)], "ab!z"[rng.IntN(4)])
		}
		tree[filepath.Clean(path)+"f"] = &fstest.MapFile{}
	}
	last := ""
	require.NoError(t, fs.WalkDir(tree, ".", func(path string, d fs.DirEntry, err error) error {
		if path != "." {
			assert.True(t, last == "" || Before(last, path), "%s, then %s", last, path)
			assert.False(t, Before(path, last))
			last = path
		}
		return err
	}))
}

func TestAPackSaysWhatIsInIt(t *testing.T) {
	var p Packer
	rng := rand.NewChaCha8([32]byte{4})
	pieces := map[chunk.ID][]byte{}
	for i := range 300 {
		piece := make([]byte, 1+i*7%5000)
		if i%3 == 0 {
			_, _ = rng.Read(piece)
		}
		piece[0] = byte(i)
		id := chunk.Sum(piece)
		pieces[id] = piece
		p.Add(id, piece)
	}
	pack, blocks := p.End()
	n, err := ListLen(pack[len(pack)-TailLen:])
	require.NoError(t, err)
	room := int64(len(pack)-TailLen) - n
	listed, err := Listed(pack[room:len(pack)-TailLen], room)
	require.NoError(t, err)
	assert.Equal(t, blocks, listed)

	u, err := NewUnpacker()
	require.NoError(t, err)
	defer u.Close()
	var raw []byte
	for _, b := range listed {
		raw, err = u.Block(pack[b.Start:b.Start+b.Packed], raw)
		require.NoError(t, err)
		require.Len(t, raw, int(b.Raw))
		at := 0
		for _, piece := range b.Pieces {
			assert.Equal(t, piece.ID, chunk.Sum(raw[at:at+int(piece.Len)]))
			at += int(piece.Len)
			delete(pieces, piece.ID)
		}
	}
	assert.Empty(t, pieces, "every piece is in it")
	nothing, none := new(Packer).End()
	assert.Empty(t, nothing)
	assert.Empty(t, none)

	_, err = ListLen(pack[len(pack)-TailLen-1 : len(pack)-1])
	assert.ErrorIs(t, err, ErrDamaged)
	_, err = Listed(pack[room:len(pack)-TailLen], room-1)
	assert.ErrorIs(t, err, ErrDamaged)
	_, err = u.Block(pack[:100], nil)
	assert.ErrorIs(t, err, ErrDamaged)
}

func FuzzDecode(f *testing.F) {
	written, _ := sample().Encode()
	f.Add(written)
	f.Add([]byte(word))
	f.Fuzz(func(t *testing.T, written []byte) {
		got, digest, err := Decode(written)
		if err != nil {
			return
		}
		again, same := got.Encode()
		back, _, err := Decode(again)
		require.NoError(t, err)
		assert.Equal(t, got, back)
		assert.Equal(t, digest, same)
	})
}

func FuzzListed(f *testing.F) {
	var p Packer
	p.Add(chunk.Sum([]byte("tide")), []byte("tide"))
	pack, _ := p.End()
	f.Add(pack, int64(20))
	f.Fuzz(func(t *testing.T, list []byte, room int64) {
		blocks, err := Listed(list, room)
		if err == nil && len(blocks) > 0 {
			last := blocks[len(blocks)-1]
			assert.Equal(t, room, int64(last.Start)+int64(last.Packed))
		}
	})
}

// What a merge is to come to is told here by a model: the older tree as a map, changed as a file system would be.
func TestAMergeIsWhatTheChangesLeave(t *testing.T) {
	for seed := range uint64(3000) {
		rng := rand.New(rand.NewPCG(seed, 9))
		older := randomTree(rng)
		changes := randomChanges(rng, older)
		got := Merge(older, changes)
		require.NoError(t, got.check(), "seed %d", seed)
		require.Equal(t, modelOf(older, changes), contents(got), "seed %d: %v and %v", seed, older.Entries, changes)
	}
}

func randomTree(rng *rand.Rand) *Tree {
	t := &Tree{Roots: []string{"r"}, Entries: []Entry{{Path: "r", Kind: Folder}}}
	grow(rng, t, "r", 0)
	return t
}

func grow(rng *rand.Rand, t *Tree, dir string, depth int) {
	for _, name := range []string{"a", "a.", "b", "c"} {
		e := Entry{Path: dir + "/" + name, Mode: fs.FileMode(rng.IntN(8))}
		switch n := rng.IntN(7); {
		case n == 0:
			continue
		case n < 3 && depth < 2:
			e.Kind = Folder
		case n == 3:
			e.Kind, e.Target, e.Mode = Link, "x", 0
		case n == 4 && len(t.files()) > 0:
			e.Kind, e.Target, e.Mode = Twin, t.files()[rng.IntN(len(t.files()))], 0
		default:
			e.Kind = File
			e.Pieces = []Piece{{Len: 1 + rng.Int64N(9), Hole: true}}
		}
		t.Entries = append(t.Entries, e)
		if e.Kind == Folder {
			grow(rng, t, e.Path, depth+1)
		}
	}
}

func (t *Tree) files() (list []string) {
	for _, e := range t.Entries {
		if e.Kind == File {
			list = append(list, e.Path)
		}
	}
	return list
}

// randomChanges are a tree's of which only some entries are there, with those of the older tree that are gone.
func randomChanges(rng *rand.Rand, older *Tree) (list []Change) {
	known := map[string]Kind{}
	for _, e := range older.Entries {
		known[e.Path] = e.Kind
	}
	left := map[string]bool{}
	for _, e := range randomTree(rng).Entries {
		parent := e.Path[:max(0, len(e.Path)-len("/x"))]
		if left[parent] || rng.IntN(3) == 0 && e.Kind != Folder || e.Kind == Twin {
			left[e.Path] = e.Kind == Folder
			if e.Kind == Twin || left[parent] {
				continue
			}
		}
		c := Change{Entry: e}
		if e.Kind == Folder {
			c.Alone = rng.IntN(3) == 0
		} else if rng.IntN(3) == 0 && known[e.Path] != 0 {
			c = Change{Entry: Entry{Path: e.Path}, Gone: true}
		}
		if left[e.Path] {
			continue
		}
		list = append(list, c)
	}
	return slices.DeleteFunc(list, func(c Change) bool { // without the folder it is in it is no change
		i := slices.Index([]byte(c.Path), '/')
		for ; i >= 0 && i < len(c.Path); i++ {
			if c.Path[i] == '/' && !slices.ContainsFunc(list, func(o Change) bool {
				return o.Path == c.Path[:i] && o.Kind == Folder
			}) {
				return true
			}
		}
		return false
	})
}

// contents is what is at each path, twins as what they are another name of.
func contents(t *Tree) map[string]string {
	m := map[string]string{}
	for _, e := range t.Entries {
		m[e.Path] = fmt.Sprint(e.Kind, e.Mode, e.Target, e.Size())
		if e.Kind == Twin {
			m[e.Path] = m[e.Target]
		}
	}
	return m
}

func modelOf(older *Tree, changes []Change) map[string]string {
	m := contents(older)
	for _, c := range changes {
		for path := range m {
			if path == c.Path || Below(path, c.Path) && (c.Gone || c.Alone || c.Kind != Folder) {
				delete(m, path)
			}
		}
		if !c.Gone {
			m[c.Path] = fmt.Sprint(c.Kind, c.Mode, c.Target, c.Size())
		}
	}
	return m
}
