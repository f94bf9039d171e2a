package service

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/service/caches"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
)

// wants is what a job wants of a cache whose key is made of a word.
func wants(name, key string) api.CacheWanted {
	return api.CacheWanted{Name: name, Key: digestOf(key), Shape: digestOf(name), Followed: map[string]string{"lock": key}}
}

// noisy is a text that no packer makes shorter.
func noisy(seed string, n int) []byte {
	text := make([]byte, n)
	rng := rand.NewChaCha8([32]byte([]byte(digestOf(seed))[:32]))
	_, _ = rng.Read(text)
	return text
}

// saves keeps a folder with one file as the copy of a cache.
func saves(ctx context.Context, s *Service, attempt record.AttemptID, name, key string, text []byte) error {
	piece, err := stores(ctx, s, attempt, text)
	if err != nil {
		return err
	}
	return savesTree(ctx, s, attempt, name, key, piece)
}

// stores stores a piece.
func stores(ctx context.Context, s *Service, attempt record.AttemptID, text []byte) (tree.Piece, error) {
	var p tree.Packer
	id := chunk.Sum(text)
	p.Add(id, text)
	pack, blocks := p.End()
	at, err := s.Caches.AddPack(ctx, attempt, bytes.NewReader(pack))
	return tree.Piece{Len: int64(len(text)), ID: id, At: tree.Place{Pack: at, Block: blocks[0].Block}}, err
}

func savesTree(ctx context.Context, s *Service, attempt record.AttemptID, name, key string, piece tree.Piece) error {
	t := &tree.Tree{Roots: []string{"depot"}, Entries: []tree.Entry{{Path: "depot", Kind: tree.Folder, Mode: 0o755},
		{Path: "depot/f", Kind: tree.File, Mode: 0o644, Pieces: []tree.Piece{piece}}}}
	written, _ := t.Encode()
	_, err := s.Caches.Save(ctx, attempt, api.CacheSaved{CacheWanted: wants(name, key), Job: "a"}, bytes.NewReader(written))
	return err
}

// restores finds the copy of a cache and reads all of it.
func restores(ctx context.Context, s *Service, attempt record.AttemptID, name, key string) (api.CacheFound, []byte,
	error) {
	found, err := s.Caches.Find(ctx, attempt, wants(name, key))
	if err != nil {
		return found, nil, err
	}
	content, err := s.Caches.Tree(ctx, attempt, found.ID)
	if err != nil {
		return found, nil, err
	}
	defer content.Close()
	written, err := io.ReadAll(content)
	if err != nil {
		return found, nil, err
	}
	t, _, err := tree.Decode(written)
	if err != nil {
		return found, nil, err
	}
	p := t.Entries[1].Pieces[0]
	part, err := s.Caches.Pack(ctx, attempt, found.ID, p.At.Pack, int64(p.At.Block.Start), int64(p.At.Block.Packed))
	if err != nil {
		return found, nil, err
	}
	defer part.Close()
	packed, err := io.ReadAll(part)
	if err != nil {
		return found, nil, err
	}
	u, err := tree.NewUnpacker()
	if err != nil {
		return found, nil, err
	}
	defer u.Close()
	raw, err := u.Block(packed, nil)
	return found, raw, err
}

// builds starts a run of a branch and gives its attempt.
func builds(t *testing.T, s *Service, ref string) record.AttemptID {
	t.Helper()
	_, err := s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "p", Ref: ref})
	require.NoError(t, err)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	return w.Attempt
}

// proposed is the attempt of a proposal from outside.
func proposed(t *testing.T, s *Service, r repository, name string) record.AttemptID {
	t.Helper()
	p, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	head := r.commit(map[string]string{"of": name})
	accepted, err := s.Intake.Receive(asItself(t), p, "proposal-"+head,
		intake.Spooled{Proposal: &api.ProposalData{Proposal: name, Target: "main", Commit: head}}, 0)
	require.NoError(t, err)
	s.planEvent(t, asItself(t), accepted.ID)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	return w.Attempt
}

func TestWhatFitsElseTheNearestIsFound(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": step})
	r.git("branch", "work")
	r.git("branch", "other")
	main := builds(t, s, "main")
	_, err := s.Caches.Find(ctx, main, wants("depot", "one"))
	assert.ErrorIs(t, err, ground.ErrNotFound)
	require.NoError(t, saves(ctx, s, main, "depot", "one", []byte("of main")))
	require.NoError(t, saves(ctx, s, builds(t, s, "other"), "depot", "three", []byte("of other")))

	work := builds(t, s, "work")
	found, text, err := restores(ctx, s, work, "depot", "two")
	require.NoError(t, err)
	assert.Equal(t, "of main", string(text), "another branch's is no relative")
	assert.False(t, found.Exact)
	assert.Equal(t, []string{"lock"}, found.Differs)
	assert.Equal(t, "main", found.Line)
	assert.EqualValues(t, 1, found.Run)
	found, text, err = restores(ctx, s, work, "depot", "three")
	require.NoError(t, err)
	assert.Equal(t, "of other", string(text), "but what fits is right whosever it is")
	assert.True(t, found.Exact)
	exact := wants("depot", "two")
	exact.Exact = true
	_, err = s.Caches.Find(ctx, work, exact)
	assert.ErrorIs(t, err, ground.ErrNotFound, "when nothing but what fits will do")
	_, err = s.Caches.Find(ctx, work, wants("other", "five"))
	assert.ErrorIs(t, err, ground.ErrNotFound, "another cache's is none")

	require.NoError(t, saves(ctx, s, work, "depot", "two", []byte("of work")))
	_, text, err = restores(ctx, s, builds(t, s, "work"), "depot", "four")
	require.NoError(t, err)
	assert.Equal(t, "of work", string(text), "the branch's own is nearer")
	_, text, err = restores(ctx, s, builds(t, s, "main"), "depot", "four")
	require.NoError(t, err)
	assert.Equal(t, "of main", string(text))
	require.NoError(t, saves(ctx, s, work, "depot", "one", []byte("late")), "the second to save a key is not refused")
	_, text, err = restores(ctx, s, work, "depot", "one")
	require.NoError(t, err)
	assert.Equal(t, "of main", string(text), "and changes nothing")
}

func TestWhatAProposalFromOutsideHasMadeNobodyElseRestores(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": "[trigger.proposal]\ninto = [\"main\"]\n" + step})
	main := builds(t, s, "main")
	require.NoError(t, saves(ctx, s, main, "depot", "one", []byte("of main")))
	r.git("checkout", "-q", "-b", "fork")
	seven := proposed(t, s, r, "7")
	_, text, err := restores(ctx, s, seven, "depot", "one")
	require.NoError(t, err)
	assert.Equal(t, "of main", string(text))
	require.NoError(t, saves(ctx, s, seven, "depot", "two", []byte("poison")))
	again := proposed(t, s, r, "7")
	found, text, err := restores(ctx, s, again, "depot", "two")
	require.NoError(t, err)
	assert.Equal(t, "poison", string(text), "its own it may have")

	eight := proposed(t, s, r, "8")
	for what, attempt := range map[string]record.AttemptID{"a run of the project": builds(t, s, "main"), "another proposal": eight} {
		other, err := s.Caches.Find(ctx, attempt, wants("depot", "two"))
		require.NoError(t, err, what)
		assert.False(t, other.Exact, what)
		assert.NotEqual(t, found.ID, other.ID, what)
		_, err = s.Caches.Tree(ctx, attempt, found.ID)
		assert.ErrorIs(t, err, ground.ErrNotFound, what)
		places, err := s.Caches.Known(ctx, attempt, []chunk.ID{chunk.Sum([]byte("poison"))})
		require.NoError(t, err)
		assert.Zero(t, places[0], "%s is not told that there is such a piece", what)
	}
	places, err := s.Caches.Known(ctx, eight, []chunk.ID{chunk.Sum([]byte("of main"))})
	require.NoError(t, err)
	assert.Zero(t, places[0], "nor a proposal of the project's pieces")

	// It may name a pack of others only when it could restore what that is in.
	of := func(attempt record.AttemptID, text string) tree.Piece {
		places, err := s.Caches.Known(ctx, attempt, []chunk.ID{chunk.Sum([]byte(text))})
		require.NoError(t, err)
		require.NotZero(t, places[0])
		return tree.Piece{Len: int64(len(text)), ID: chunk.Sum([]byte(text)), At: places[0]}
	}
	assert.ErrorIs(t, savesTree(ctx, s, eight, "depot", "stolen", of(again, "poison")), ground.ErrNotFound)
	assert.ErrorIs(t, savesTree(ctx, s, eight, "depot", "stolen", of(main, "of main")), ground.ErrNotFound)
}

func TestOnOnesOwnMachineOneHasWhatIsEverybodys(t *testing.T) {
	s, r, dsn := openWithRepositoryOn(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": "[trigger.proposal]\ninto = [\"main\"]\n" + step})
	r.git("branch", "work")
	require.NoError(t, saves(ctx, s, builds(t, s, "main"), "depot", "one", []byte("of main")))
	require.NoError(t, saves(ctx, s, builds(t, s, "work"), "depot", "two", []byte("of work")))
	own := func(line, key string) (api.CacheFound, error) {
		return s.Caches.FindFor(ctx, "app", line, wants("depot", key))
	}
	found, err := own("main", "one")
	require.NoError(t, err)
	assert.True(t, found.Exact)
	written, err := s.Caches.TreeFor(ctx, "app", found.ID)
	require.NoError(t, err)
	require.NoError(t, written.Close())
	for line, want := range map[string]string{"main": "main", "work": "work", "new": "main"} {
		near, err := own(line, "three")
		require.NoError(t, err)
		assert.False(t, near.Exact)
		assert.Equal(t, want, near.Line, "what is nearest to %s", line)
		assert.Equal(t, []string{"lock"}, near.Differs)
	}
	exact := wants("depot", "three")
	exact.Exact = true
	_, err = s.Caches.FindFor(ctx, "app", "main", exact)
	assert.ErrorIs(t, err, ground.ErrNotFound)
	_, err = s.Caches.FindFor(ctx, "none", "main", exact)
	assert.ErrorIs(t, err, ground.ErrNotFound)

	// Not what a proposal from outside has made, nor what a run did that was given a protected secret.
	r.git("checkout", "-q", "-b", "fork")
	seven := proposed(t, s, r, "7")
	require.NoError(t, saves(ctx, s, seven, "depot", "four", []byte("poison")))
	found, _, err = restores(ctx, s, seven, "depot", "four")
	require.NoError(t, err)
	near, err := own("main", "four")
	require.NoError(t, err)
	assert.Equal(t, "main", near.Line)
	_, err = s.Caches.TreeFor(ctx, "app", found.ID)
	assert.ErrorIs(t, err, ground.ErrNotFound)
	_, err = s.Caches.PackFor(ctx, "app", found.ID, 1, 0, 10)
	assert.ErrorIs(t, err, ground.ErrNotFound)
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	_, err = db.ExecContext(ctx, `UPDATE caches SET guard = 'STORE_KEY' WHERE line = 'main'`)
	require.NoError(t, err)
	_, err = own("main", "one")
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

func TestWhatIsTheSameIsKeptByAnotherNameWithoutBeingSent(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": "[trigger.proposal]\ninto = [\"main\"]\n" + step})
	main := builds(t, s, "main")
	require.NoError(t, saves(ctx, s, main, "depot", "one", []byte("tides")))
	found, _, err := restores(ctx, s, main, "depot", "one")
	require.NoError(t, err)
	same := func(attempt record.AttemptID, cache, key string) (api.CacheFound, error) {
		return s.Caches.Save(ctx, attempt, api.CacheSaved{CacheWanted: wants(cache, key), Job: "a", Older: found.ID, Same: true},
			strings.NewReader("what follows is not looked at"))
	}
	kept, err := same(main, "depot", "two")
	require.NoError(t, err)
	assert.Equal(t, found.Tree, kept.Tree)
	assert.Equal(t, found.Size, kept.Size)
	_, err = same(main, "other", "two")
	assert.ErrorIs(t, err, ground.ErrInvalid, "a copy of other paths is another")

	require.NoError(t, s.Caches.Drop(ctx, "app", found.ID))
	again, text, err := restores(ctx, s, main, "depot", "two")
	require.NoError(t, err)
	assert.True(t, again.Exact)
	assert.Equal(t, "tides", string(text), "each stands by itself")
	_, err = same(main, "depot", "three")
	assert.ErrorIs(t, err, ground.ErrNotFound, "what is given up is nothing to be the same as")

	r.git("checkout", "-q", "-b", "fork")
	seven := proposed(t, s, r, "7")
	require.NoError(t, saves(ctx, s, seven, "depot", "four", []byte("poison")))
	found, _, err = restores(ctx, s, seven, "depot", "four")
	require.NoError(t, err)
	_, err = same(main, "depot", "five")
	assert.ErrorIs(t, err, ground.ErrNotFound, "nor what one may not restore")
}

func TestWhatIsMadeAnewTakesThePlaceOfWhatWasNotTrusted(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": step})
	require.NoError(t, saves(ctx, s, builds(t, s, "main"), "depot", "one", []byte("a mess")))
	_, err := s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "p", Ref: "main", Fresh: true})
	require.NoError(t, err)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	assert.True(t, w.Fresh)
	require.NoError(t, saves(ctx, s, w.Attempt, "depot", "one", []byte("in order")))
	_, text, err := restores(ctx, s, builds(t, s, "main"), "depot", "one")
	require.NoError(t, err)
	assert.Equal(t, "in order", string(text))
}

func TestADamagedPackIsGivenUpAndMadeAnew(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": step})
	main := builds(t, s, "main")
	text := noisy("tides", 5000)
	blobs := func() (packs []string) {
		for _, name := range s.blobNames(t) {
			if strings.HasPrefix(name, "packs/") {
				packs = append(packs, name)
			}
		}
		return packs
	}
	read := func(name string) []byte {
		r, err := blobsOf(t, s).Open(ctx, name)
		require.NoError(t, err)
		defer r.Close()
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		return content
	}
	write := func(name string, content []byte) error {
		_, err := blobsOf(t, s).Put(ctx, name, bytes.NewReader(content))
		return err
	}
	for what, harm := range map[string]func(name string) error{
		"flipped": func(name string) error {
			content := read(name)
			content[len(content)/3] ^= 4
			return write(name, content)
		},
		"deleted":   func(name string) error { return blobsOf(t, s).Delete(ctx, name) },
		"cut short": func(name string) error { return write(name, read(name)[:100]) },
	} {
		require.NoError(t, saves(ctx, s, main, "depot", what, text), what)
		found, err := s.Caches.Find(ctx, main, wants("depot", what))
		require.NoError(t, err)
		places, err := s.Caches.Known(ctx, main, []chunk.ID{chunk.Sum(text)})
		require.NoError(t, err)
		told := api.PackDamaged{Pack: places[0].Pack, Why: "the runner says so"}
		assert.ErrorIs(t, s.Caches.Damaged(ctx, main, found.ID, told), ground.ErrExists, "the word of a runner is not enough")
		for _, name := range blobs() {
			require.NoError(t, harm(name), what)
		}
		require.NoError(t, s.Caches.Damaged(ctx, main, found.ID, told), what)
		_, err = s.Caches.Find(ctx, main, wants("depot", what))
		assert.ErrorIs(t, err, ground.ErrNotFound, what)
		places, err = s.Caches.Known(ctx, main, []chunk.ID{chunk.Sum(text)})
		require.NoError(t, err)
		assert.Zero(t, places[0], "%s: nobody counts on it any more", what)
		assert.Empty(t, blobs(), what)
	}
	require.NoError(t, saves(ctx, s, main, "depot", "again", text))
	_, again, err := restores(ctx, s, main, "depot", "again")
	require.NoError(t, err)
	assert.Equal(t, text, again)
}

func TestPacksGoWhenNoCopyNeedsThem(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": step})
	main := builds(t, s, "main")
	text := noisy("shared", 5000)
	require.NoError(t, saves(ctx, s, main, "depot", "one", text))
	places, err := s.Caches.Known(ctx, main, []chunk.ID{chunk.Sum(text)})
	require.NoError(t, err)
	require.NoError(t, savesTree(ctx, s, main, "depot", "two", tree.Piece{Len: 5000, ID: chunk.Sum(text), At: places[0]}))

	list, err := s.Caches.Saved(ctx, "app", caches.Filter{Limit: 1})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	assert.EqualValues(t, 2, list.Copies)
	assert.EqualValues(t, 10000, list.Size)
	assert.Less(t, list.Takes, int64(7000), "each piece once")
	assert.NotEmpty(t, list.Next)
	two := list.Items[0]
	assert.Equal(t, "main", two.Line)
	require.NoError(t, s.Caches.Drop(ctx, "app", two.ID))
	assert.ErrorIs(t, s.Caches.Drop(ctx, "app", two.ID), ground.ErrNotFound)
	require.NoError(t, s.Caches.DropPacks(ctx, time.Now().Add(time.Hour)))
	_, _, err = restores(ctx, s, main, "depot", "one")
	require.NoError(t, err, "the other needs it")

	list, err = s.Caches.Saved(ctx, "app", caches.Filter{Limit: 10, Name: "depot", Line: "main"})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	require.NoError(t, s.Caches.Drop(ctx, "app", list.Items[0].ID))
	require.NoError(t, s.Caches.DropPacks(ctx, time.Now().Add(-time.Hour)))
	places, err = s.Caches.Known(ctx, main, []chunk.ID{chunk.Sum(text)})
	require.NoError(t, err)
	assert.NotZero(t, places[0], "a job that is saving may count on it")
	require.NoError(t, s.Caches.DropPacks(ctx, time.Now().Add(time.Hour)))
	left := places[0]
	places, err = s.Caches.Known(ctx, main, []chunk.ID{chunk.Sum(text)})
	require.NoError(t, err)
	assert.Zero(t, places[0])
	assert.ErrorIs(t, savesTree(ctx, s, main, "depot", "late", tree.Piece{Len: 5000, ID: chunk.Sum(text), At: left}),
		ground.ErrNotFound, "one that counted on it for too long saves nothing")
	for _, name := range s.blobNames(t) {
		assert.False(t, strings.HasPrefix(name, "packs/") || strings.HasPrefix(name, "trees/"), name)
	}
}

func TestWhatNoPackAndNoTreeLooksLikeIsRefused(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": step})
	main := builds(t, s, "main")
	for what, text := range map[string]string{"nothing": "", "noise": string(noisy("x", 3000)), "zeros": strings.Repeat("\x00", 4000),
		"a list that is too long": "\xff\xff\xff\xffpiston pack 1\n"} {
		_, err := s.Caches.AddPack(ctx, main, strings.NewReader(text))
		assert.ErrorIs(t, err, ground.ErrInvalid, what)
		_, err = s.Caches.Save(ctx, main, api.CacheSaved{CacheWanted: wants("depot", "k")}, strings.NewReader(text))
		assert.ErrorIs(t, err, ground.ErrInvalid, what)
	}
	for what, in := range map[string]api.CacheWanted{"no key": {Name: "a", Shape: digestOf("s")},
		"a name with NUL": {Name: "a\x00", Key: digestOf("k"), Shape: digestOf("s")}} {
		_, err := s.Caches.Save(ctx, main, api.CacheSaved{CacheWanted: in}, strings.NewReader(""))
		assert.ErrorIs(t, err, ground.ErrInvalid, what)
	}
	assert.Empty(t, s.blobNames(t), "nothing is half-written")
}

func TestManySaveTheSameAtOnce(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": step})
	var attempts []record.AttemptID
	for range 4 {
		attempts = append(attempts, builds(t, s, "main"))
	}
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			text := noisy(fmt.Sprint("same", n%2), 3000)
			assert.NoError(t, saves(ctx, s, attempts[n%4], "depot", fmt.Sprint("k", n%2), text))
			assert.NoError(t, s.Caches.DropPacks(ctx, time.Now().Add(-time.Hour)))
		})
	}
	all.Wait()
	for n := range 2 {
		_, text, err := restores(ctx, s, attempts[0], "depot", fmt.Sprint("k", n))
		require.NoError(t, err)
		assert.Equal(t, noisy(fmt.Sprint("same", n), 3000), text)
	}
}

func TestARemovedProjectLeavesNoPiece(t *testing.T) {
	s, dsn := openOn(t)
	leaves(t, s, "push", "k")
	require.NoError(t, s.Projects.RemoveProject(asItself(t), "p"))
	for _, table := range []string{"caches", "cache_pieces", "cache_packs", "cache_refs", "cache_spaces"} {
		var n int
		require.NoError(t, countIn(t, dsn, table, &n))
		assert.Zero(t, n, table)
	}
	assert.Eventually(t, func() bool { return len(s.blobNames(t)) == 0 }, 20*time.Second, 50*time.Millisecond)
}

func countIn(t *testing.T, dsn, table string, n *int) error {
	t.Helper()
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	return db.QueryRow(`SELECT count(*) FROM ` + table).Scan(n)
}
