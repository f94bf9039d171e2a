package service

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/store"
)

func ownFile(t *testing.T) Master {
	return FindMaster(func(string) string { return "" }, filepath.Join(t.TempDir(), "secrets.key"))
}

func emptyStore(t *testing.T) *store.Store {
	st, err := store.Open(asItself(t), testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	return st
}

func TestTheVaultGuardsItsKey(t *testing.T) {
	ctx, st, m := asItself(t), emptyStore(t), ownFile(t)
	v, err := openVault(ctx, m, st)
	require.NoError(t, err)
	sealed, to, err := v.seal([]byte("plain"))
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "plain")
	again, err := openVault(ctx, m, st)
	require.NoError(t, err)
	plain, err := again.open(sealed)
	require.NoError(t, err)
	assert.Equal(t, "plain", string(plain))
	info, err := os.Stat(m.File)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())

	require.NoError(t, os.Chmod(m.File, 0o644))
	_, err = openVault(ctx, m, st)
	assert.ErrorContains(t, err, "can be read by others")
	require.NoError(t, os.WriteFile(m.File, []byte("junk"), 0o600))
	require.NoError(t, os.Chmod(m.File, 0o600))
	_, err = openVault(ctx, m, st)
	assert.ErrorContains(t, err, "no age identity")
	require.NoError(t, os.Remove(m.File))
	_, err = openVault(ctx, m, st)
	assert.ErrorIs(t, err, ErrMaster)
	assert.ErrorContains(t, err, "is not there")
	assert.ErrorContains(t, err, to)
	assert.NoFileExists(t, m.File, "none is made where there is something to open")
}

func TestAWrongMasterTouchesNothing(t *testing.T) {
	ctx, st := asItself(t), emptyStore(t)
	_, err := openVault(ctx, ownFile(t), st)
	require.NoError(t, err)
	before, err := st.Masters(ctx)
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	_, err = openVault(ctx, Master{Text: other.String(), What: "the environment variable PISTON_MASTER"}, st)
	assert.ErrorIs(t, err, ErrMaster)
	assert.ErrorContains(t, err, "PISTON_MASTER holds that of "+other.Recipient().String())
	after, err := st.Masters(ctx)
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

func TestAWrongMasterForRecordsThatAreOlderThanItsNote(t *testing.T) {
	ctx, st := asItself(t), emptyStore(t)
	right, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	sealed, err := sealTo(right.Recipient(), []byte("whsec_x"))
	require.NoError(t, err)
	require.NoError(t, st.AddMaster(ctx, store.Master{Proof: sealed}))
	require.NoError(t, st.AddProject(ctx, "p", "/srv/p.git", sealed, ""))
	_, err = openVault(ctx, ownFile(t), st)
	assert.ErrorIs(t, err, ErrMaster)
	wrong, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	_, err = openVault(ctx, Master{Text: wrong.String()}, st)
	assert.ErrorIs(t, err, ErrMaster)
	_, err = openVault(ctx, Master{Text: right.String()}, st)
	assert.NoError(t, err)
}

func TestWhereTheMasterIs(t *testing.T) {
	dir := t.TempDir()
	env := map[string]string{"CREDENTIALS_DIRECTORY": dir}
	find := func() Master { return FindMaster(func(name string) string { return env[name] }, "/own/file") }
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
	ctx := asItself(t)
	planned(t, s, twoJobs)
	addProject(t, s, "q")
	for range rotationBatch + 3 {
		_, err := s.SetSecret(ctx, "q", "ada", "KEY", textSecret("the secret value"))
		require.NoError(t, err)
	}
	old := s.vault.keys[0]
	s.vault.rotating.Lock()
	_, err := s.RotateMaster(ctx)
	assert.ErrorIs(t, err, ErrExists, "one at a time")
	s.vault.rotating.Unlock()
	out, err := s.RotateMaster(ctx)
	require.NoError(t, err)
	assert.Equal(t, 12, out.Sealed, "the ten values that are kept, and two hook keys")
	assert.NotEqual(t, old.Recipient().String(), out.Recipient)
	hook, err := s.HookKey(ctx, "q")
	require.NoError(t, err)
	assert.Equal(t, "whsec_x", hook.Key)
	p, err := s.store.ProjectByName(ctx, "q")
	require.NoError(t, err)
	_, err = (&vault{keys: []*age.X25519Identity{old}}).openWith(p.HookKey)
	assert.Error(t, err, "the former master opens nothing of now")
	former, err := Master{File: out.Former}.read()
	require.NoError(t, err)
	assert.Equal(t, old.String(), former[0].String(), "and is kept for dumps of before")
	masters, err := s.store.Masters(ctx)
	require.NoError(t, err)
	assert.Len(t, masters, 1)

	// A second server still has the former master in mind, and finds the new one by itself.
	other := &vault{master: s.vault.master, keys: []*age.X25519Identity{old}}
	plain, err := other.open(p.HookKey)
	require.NoError(t, err)
	assert.Equal(t, "whsec_x", string(plain))
}

func TestAMasterThatIsNotOursToWriteIsRotatedWithOneThatIsGiven(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	s.vault.master = Master{Text: s.vault.keys[0].String(), What: "the environment variable PISTON_MASTER"}
	_, err := s.RotateMaster(ctx)
	assert.ErrorIs(t, err, ErrInvalid)
	assert.ErrorContains(t, err, "age-keygen")
	made, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	s.vault.master.Text = made.String() + "\n" + s.vault.master.Text
	out, err := s.RotateMaster(ctx)
	require.NoError(t, err)
	assert.Equal(t, api.MasterRotation{Recipient: made.Recipient().String()}, out)
}

func TestARotationWaitsForRecordsThatOthersAreAt(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	p := addProject(t, s, "q")
	key, to, err := s.vault.seal([]byte("whsec_x"))
	require.NoError(t, err)
	rotated := make(chan error, 1)
	require.NoError(t, s.store.Tx(ctx, func(q store.Q) error {
		require.NoError(t, q.SealAnew(ctx, store.Sealed{ID: p.ID, Ciphertext: key}, to))
		go func() {
			_, err := s.RotateMaster(ctx)
			rotated <- err
		}()
		require.Eventually(t, func() bool {
			_, now, err := s.vault.seal(nil)
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
	hook, err := s.HookKey(ctx, "q")
	require.NoError(t, err)
	assert.Equal(t, "whsec_x", hook.Key)
}

func TestWhatIsEncryptedWhileARotationEndsIsEncryptedAgain(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	p := addProject(t, s, "q")
	var tried []string
	require.NoError(t, s.sealing(ctx, []byte("whsec_y"), func(q store.Q, sealed []byte, to string) error {
		if tried = append(tried, to); len(tried) == 1 {
			_, err := s.RotateMaster(ctx)
			require.NoError(t, err)
		}
		return q.SealAnew(ctx, store.Sealed{ID: p.ID, Ciphertext: sealed}, to)
	}))
	require.Len(t, tried, 2)
	assert.NotEqual(t, tried[0], tried[1])
	hook, err := s.HookKey(ctx, "q")
	require.NoError(t, err)
	assert.Equal(t, "whsec_y", hook.Key)
}

func TestWhatWasReadBeforeARotationIsOpenedAfterIt(t *testing.T) {
	s := open(t)
	addProject(t, s, "q")
	before, err := s.store.ProjectByName(asItself(t), "q")
	require.NoError(t, err)
	for range 2 {
		_, err = s.RotateMaster(asItself(t))
		require.NoError(t, err)
	}
	plain, err := s.vault.open(before.HookKey)
	require.NoError(t, err)
	assert.Equal(t, "whsec_x", string(plain))
}
