package host

import (
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/local"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/store"
)

func TestMain(m *testing.M) { testdb.Main(m, store.Prepare) }

func TestWhereItListens(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	for address, want := range map[string]string{
		taken.Addr().String(): "is taken by another program", "0.0.0.0:0": "--tls-cert", ":0": "--tls-cert", "10.1.2.3:80": "stays on loopback",
		"example.com:80": "stays on loopback", "127.0.0.1": "give an address and a port", "127.0.0.1:99999": "127.0.0.1:99999",
	} {
		_, err := listen(address, false)
		assert.ErrorContains(t, err, want, address)
	}
	for _, address := range []string{"127.0.0.1:0", "[::1]:0", "localhost:0"} {
		l, err := listen(address, false)
		if assert.NoError(t, err, address) {
			l.Close()
		}
	}
}

func options(t *testing.T) Options {
	return Options{Home: t.TempDir(), Listen: "127.0.0.1:0", Database: testdb.New(t), Log: slog.New(slog.DiscardHandler)}
}

func TestAServiceOnADatabaseThatIsGiven(t *testing.T) {
	o := options(t)
	h, err := Start(t.Context(), o)
	require.NoError(t, err)
	defer h.Stop()
	assert.Len(t, h.FirstPassword, 20)
	require.NoError(t, client.New(h.Address, "").Healthy(t.Context()))
	_, err = os.Stat(filepath.Join(o.Home, "postgres"))
	assert.ErrorIs(t, err, os.ErrNotExist, "no cluster of its own is made")

	_, err = Start(t.Context(), Options{Home: o.Home, Listen: "127.0.0.1:0", Database: o.Database, Log: o.Log})
	assert.ErrorIs(t, err, local.ErrInUse)
	h.Stop()
	again, err := Start(t.Context(), o)
	require.NoError(t, err, "everything was let go of")
	defer again.Stop()
	assert.Empty(t, again.FirstPassword, "the password is shown once")
	require.NoError(t, client.New(again.Address, "").Healthy(t.Context()))
}

func TestAStartThatFailsLetsGoOfEverything(t *testing.T) {
	o := options(t)
	require.NoError(t, os.WriteFile(filepath.Join(o.Home, "secrets.key"), []byte("junk"), 0o600))
	_, err := Start(t.Context(), o)
	require.ErrorContains(t, err, "no age identity")
	text, err := os.ReadFile(filepath.Join(o.Home, "secrets.key"))
	require.NoError(t, err)
	assert.Equal(t, "junk", string(text), "a key that cannot be read is never replaced")
	require.NoError(t, os.Remove(filepath.Join(o.Home, "secrets.key")))
	h, err := Start(t.Context(), o)
	require.NoError(t, err)
	h.Stop()
}

func TestTheRunnersTokenIsKeptAndRenewed(t *testing.T) {
	o := options(t)
	h, err := Start(t.Context(), o)
	require.NoError(t, err)
	defer h.Stop()
	file, err := runnerToken(t.Context(), h.Service, o.Home)
	require.NoError(t, err)
	first, err := os.ReadFile(file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	_, err = runnerToken(t.Context(), h.Service, o.Home)
	require.NoError(t, err)
	same, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, first, same)
	require.NoError(t, os.WriteFile(file, []byte("piston_REVOKED\n"), 0o600))
	_, err = runnerToken(t.Context(), h.Service, o.Home)
	require.NoError(t, err)
	renewed, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.NotEqual(t, "piston_REVOKED\n", string(renewed))
}

func TestTheRunnerIsNotToldWhatIsTheServicesOwn(t *testing.T) {
	env := withoutOurs([]string{"PATH=/bin", "PISTON_MASTER=AGE-SECRET-KEY-1", "PISTON_DATABASE=host=x password=y", "PISTON_ISSUER_SECRET=z", "CREDENTIALS_DIRECTORY=/run/x", "PISTON_RUNNER_DISK=1GB", "PISTON_MASTERS=no"})
	assert.Equal(t, []string{"PATH=/bin", "PISTON_RUNNER_DISK=1GB", "PISTON_MASTERS=no"}, env)
}

func TestASecondFolderDoesNotServeTheSameRecords(t *testing.T) {
	o := options(t)
	h, err := Start(t.Context(), o)
	require.NoError(t, err)
	defer h.Stop()
	other := o
	other.Home = t.TempDir()
	_, err = Start(t.Context(), other)
	require.ErrorIs(t, err, ErrOtherHome)
	assert.ErrorContains(t, err, o.Home, "it says which is")
	require.NoError(t, client.New(h.Address, "").Healthy(t.Context()), "the first is not disturbed")
	h.Stop()
	other.Take = true
	text, err := os.ReadFile(filepath.Join(o.Home, "secrets.key"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(other.Home, "secrets.key"), text, 0o600))
	taken, err := Start(t.Context(), other)
	require.NoError(t, err)
	taken.Stop()
	_, err = Start(t.Context(), o)
	assert.ErrorIs(t, err, ErrOtherHome, "and now the first is the other")
}
