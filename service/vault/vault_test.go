package vault

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

func ownFile(t *testing.T) Master {
	return FindMaster(func(string) string { return "" }, filepath.Join(t.TempDir(), "secrets.key"))
}

func TestMain(m *testing.M) { testdb.Main(m, store.Prepare) }

// on is the ground of a vault on records.
func on(t *testing.T, st *store.Store) *ground.Ground {
	t.Helper()
	g, err := ground.New(st, nil, t.TempDir(), 0, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(g.Close)
	return g
}

func open(t *testing.T) *Vault {
	t.Helper()
	v, err := Open(ground.AsItself(t.Context()), ownFile(t), on(t, emptyStore(t)))
	require.NoError(t, err)
	return v
}

// addProject keeps a hook key.
func addProject(t *testing.T, v *Vault, name string) store.Project {
	t.Helper()
	ctx := ground.AsItself(t.Context())
	require.NoError(t, v.Sealing(ctx, []byte("whsec_x"), func(q ground.Q, sealed []byte, to string) error {
		return q.AddProject(ctx, name, "/srv/"+name+".git", sealed, to)
	}))
	p, err := v.Store.ProjectByName(ctx, name)
	require.NoError(t, err)
	return p
}

// hookKey opens what addProject has kept, or what stands in its place now.
func hookKey(t *testing.T, v *Vault, name string) string {
	t.Helper()
	p, err := v.Store.ProjectByName(ground.AsItself(t.Context()), name)
	require.NoError(t, err)
	plain, err := v.Open(p.HookKey)
	require.NoError(t, err)
	return string(plain)
}

func emptyStore(t *testing.T) *store.Store {
	st, err := store.Open(ground.AsItself(t.Context()), testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	return st
}

func TestTheVaultGuardsItsKey(t *testing.T) {
	ctx, st, m := ground.AsItself(t.Context()), emptyStore(t), ownFile(t)
	v, err := Open(ctx, m, on(t, st))
	require.NoError(t, err)
	sealed, to, err := v.Seal([]byte("plain"))
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "plain")
	again, err := Open(ctx, m, on(t, st))
	require.NoError(t, err)
	plain, err := again.Open(sealed)
	require.NoError(t, err)
	assert.Equal(t, "plain", string(plain))
	info, err := os.Stat(m.File)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())

	require.NoError(t, os.Chmod(m.File, 0o644))
	_, err = Open(ctx, m, on(t, st))
	assert.ErrorContains(t, err, "can be read by others")
	require.NoError(t, os.WriteFile(m.File, []byte("junk"), 0o600))
	require.NoError(t, os.Chmod(m.File, 0o600))
	_, err = Open(ctx, m, on(t, st))
	assert.ErrorContains(t, err, "no age identity")
	require.NoError(t, os.Remove(m.File))
	_, err = Open(ctx, m, on(t, st))
	assert.ErrorIs(t, err, ErrMaster)
	assert.ErrorContains(t, err, "is not there")
	assert.ErrorContains(t, err, to)
	assert.NoFileExists(t, m.File, "none is made where there is something to open")
}

func TestAWrongMasterTouchesNothing(t *testing.T) {
	ctx, st := ground.AsItself(t.Context()), emptyStore(t)
	_, err := Open(ctx, ownFile(t), on(t, st))
	require.NoError(t, err)
	before, err := st.Masters(ctx)
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	_, err = Open(ctx, Master{Text: other.String(), What: "the environment variable PISTON_MASTER"}, on(t, st))
	assert.ErrorIs(t, err, ErrMaster)
	assert.ErrorContains(t, err, "PISTON_MASTER holds that of "+other.Recipient().String())
	after, err := st.Masters(ctx)
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

func TestAWrongMasterForRecordsThatAreOlderThanItsNote(t *testing.T) {
	ctx, st := ground.AsItself(t.Context()), emptyStore(t)
	right, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	sealed, err := SealTo(right.Recipient(), []byte("whsec_x"))
	require.NoError(t, err)
	require.NoError(t, st.AddMaster(ctx, store.Master{Proof: sealed}))
	require.NoError(t, st.AddProject(ctx, "p", "/srv/p.git", sealed, ""))
	_, err = Open(ctx, ownFile(t), on(t, st))
	assert.ErrorIs(t, err, ErrMaster)
	wrong, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	_, err = Open(ctx, Master{Text: wrong.String()}, on(t, st))
	assert.ErrorIs(t, err, ErrMaster)
	_, err = Open(ctx, Master{Text: right.String()}, on(t, st))
	assert.NoError(t, err)
}

func TestWhereTheMasterIs(t *testing.T) {
	dir := t.TempDir()
	env := map[string]string{"CREDENTIALS_DIRECTORY": dir}
	find := func() Master {
		return FindMaster(func(name string) string { return env[name] }, "/own/file")
	}
	assert.Equal(t, "/own/file", find().File, "systemd gives other credentials only")
	assert.True(t, find().Own)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "piston-master"), nil, 0o400))
	assert.Equal(t, filepath.Join(dir, "piston-master"), find().File)
	assert.False(t, find().Own)
	env["PISTON_MASTER"] = "AGE-SECRET-KEY-1"
	assert.Equal(t, "AGE-SECRET-KEY-1", find().Text)
}

func TestRotatingTheMasterWhileServing(t *testing.T) {
	s := open(t)
	ctx := ground.AsItself(t.Context())
	const many = rotationBatch + 3
	for n := range many - 1 {
		addProject(t, s, fmt.Sprintf("p%d", n))
	}
	addProject(t, s, "q")
	old := s.keys[0]
	s.rotating.Lock()
	_, err := s.RotateMaster(ctx)
	assert.ErrorIs(t, err, ground.ErrExists, "one at a time")
	s.rotating.Unlock()
	out, err := s.RotateMaster(ctx)
	require.NoError(t, err)
	assert.Equal(t, many, out.Sealed)
	assert.NotEqual(t, old.Recipient().String(), out.Recipient)
	assert.Equal(t, "whsec_x", hookKey(t, s, "q"))
	p, err := s.Store.ProjectByName(ctx, "q")
	require.NoError(t, err)
	_, err = (&Vault{keys: []*age.X25519Identity{old}}).openWith(p.HookKey)
	assert.Error(t, err, "the former master opens nothing of now")
	former, err := Master{File: out.Former}.read()
	require.NoError(t, err)
	assert.Equal(t, old.String(), former[0].String(), "and is kept for dumps of before")
	masters, err := s.Store.Masters(ctx)
	require.NoError(t, err)
	assert.Len(t, masters, 1)

	// A second server still has the former master in mind, and finds the new one by itself.
	other := &Vault{master: s.master, keys: []*age.X25519Identity{old}}
	plain, err := other.Open(p.HookKey)
	require.NoError(t, err)
	assert.Equal(t, "whsec_x", string(plain))
}

func TestAMasterThatIsNotOursToWriteIsRotatedWithOneThatIsGiven(t *testing.T) {
	s := open(t)
	ctx := ground.AsItself(t.Context())
	s.master = Master{Text: s.keys[0].String(), What: "the environment variable PISTON_MASTER"}
	_, err := s.RotateMaster(ctx)
	assert.ErrorIs(t, err, ground.ErrInvalid)
	assert.ErrorContains(t, err, "age-keygen")
	made, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	s.master.Text = made.String() + "\n" + s.master.Text
	out, err := s.RotateMaster(ctx)
	require.NoError(t, err)
	assert.Equal(t, api.MasterRotation{Recipient: made.Recipient().String()}, out)
}

func TestARotationWaitsForRecordsThatOthersAreAt(t *testing.T) {
	s := open(t)
	ctx := ground.AsItself(t.Context())
	p := addProject(t, s, "q")
	key, to, err := s.Seal([]byte("whsec_x"))
	require.NoError(t, err)
	rotated := make(chan error, 1)
	require.NoError(t, s.Tx(ctx, func(q ground.Q) error {
		require.NoError(t, q.SealAnew(ctx, store.Sealed{Of: "hook", ID: int64(p.ID), Ciphertext: key}, to))
		go func() {
			_, err := s.RotateMaster(ctx)
			rotated <- err
		}()
		require.Eventually(t, func() bool {
			_, now, err := s.Seal(nil)
			return err == nil && now != to
		}, 10*time.Second, time.Millisecond)
		select {
		case err := <-rotated:
			t.Errorf("it ended with %v while a key was held", err)
		case <-time.After(10 * rotationPause):
		}
		return nil
	}))
	require.NoError(t, <-rotated)
	assert.Equal(t, "whsec_x", hookKey(t, s, "q"))
}

func TestWhatIsEncryptedWhileARotationEndsIsEncryptedAgain(t *testing.T) {
	s := open(t)
	ctx := ground.AsItself(t.Context())
	p := addProject(t, s, "q")
	var tried []string
	require.NoError(t, s.Sealing(ctx, []byte("whsec_y"), func(q ground.Q, sealed []byte, to string) error {
		if tried = append(tried, to); len(tried) == 1 {
			_, err := s.RotateMaster(ctx)
			require.NoError(t, err)
		}
		return q.SealAnew(ctx, store.Sealed{Of: "hook", ID: int64(p.ID), Ciphertext: sealed}, to)
	}))
	require.Len(t, tried, 2)
	assert.NotEqual(t, tried[0], tried[1])
	assert.Equal(t, "whsec_y", hookKey(t, s, "q"))
}

func TestWhatWasReadBeforeARotationIsOpenedAfterIt(t *testing.T) {
	s := open(t)
	addProject(t, s, "q")
	before, err := s.Store.ProjectByName(ground.AsItself(t.Context()), "q")
	require.NoError(t, err)
	for range 2 {
		_, err = s.RotateMaster(ground.AsItself(t.Context()))
		require.NoError(t, err)
	}
	plain, err := s.Open(before.HookKey)
	require.NoError(t, err)
	assert.Equal(t, "whsec_x", string(plain))
}
