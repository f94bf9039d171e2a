package local

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/store"
)

func TestAFolderIsHeldByOne(t *testing.T) {
	dir := t.TempDir()
	first, err := LockFolder(dir, "lock")
	require.NoError(t, err)
	_, err = LockFolder(dir, "lock")
	assert.ErrorIs(t, err, ErrInUse)
	assert.ErrorContains(t, err, "--home")
	first.Unlock()
	again, err := LockFolder(dir, "lock")
	require.NoError(t, err)
	again.Unlock()
}

func start(t *testing.T, home string) *Postgres {
	t.Helper()
	p, err := StartPostgres(t.Context(), home, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return p
}

func answers(t *testing.T, p *Postgres) {
	t.Helper()
	s, err := store.Open(t.Context(), p.DSN())
	require.NoError(t, err)
	require.NoError(t, s.Ping(t.Context()))
	require.NoError(t, s.Close())
}

// folder is one the postgres user cannot reach when the tests run as root, which is the hard case.
func folder(t *testing.T) string {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o700))
	t.Cleanup(func() { RemoveFolder(dir) })
	return dir
}

func TestPostgresComesBackAfterAKill(t *testing.T) {
	home := folder(t)
	p := start(t, home)
	answers(t, p)
	killed := p.Pid()
	require.NoError(t, syscall.Kill(killed, syscall.SIGKILL))
	require.Eventually(t, func() bool { return p.Pid() != killed && p.Pid() != 0 && p.answers(t.Context()) }, 30*time.Second, 50*time.Millisecond)
	answers(t, p)
	p.Stop()
	assert.Error(t, syscall.Kill(p.Pid(), 0), "nothing is left running")

	p = start(t, home)
	defer p.Stop()
	answers(t, p)
}

func TestPostgresLeftByACrashIsTakenOver(t *testing.T) {
	home := folder(t)
	first := start(t, home)
	first.cancel() // as if the process had died: nobody watches any more, the server goes on
	<-first.done
	second := start(t, home)
	defer second.Stop()
	assert.Equal(t, first.Pid(), second.Pid())
	answers(t, second)
}

// The processes of a killed server end when they notice. One that does so late holds the cluster's memory.
func TestAPostgresStartsAfterOneThatWasKilled(t *testing.T) {
	home := folder(t)
	first := start(t, home)
	first.cancel()
	<-first.done
	c, err := pgx.Connect(t.Context(), first.DSN())
	require.NoError(t, err)
	defer c.Close(context.Background())
	late := int(c.PgConn().PID())
	require.NoError(t, syscall.Kill(late, syscall.SIGSTOP))
	require.NoError(t, syscall.Kill(first.Pid(), syscall.SIGKILL))
	require.Eventually(t, func() bool { return syscall.Kill(first.Pid(), 0) != nil }, 5*time.Second, 5*time.Millisecond)
	time.AfterFunc(time.Second, func() { _ = syscall.Kill(late, syscall.SIGCONT) })
	second := start(t, home)
	defer second.Stop()
	assert.NotEqual(t, first.Pid(), second.Pid())
	answers(t, second)
}

func TestAPostgresStartsThoughItsNumberIsAnothersByNow(t *testing.T) {
	home := folder(t)
	first := start(t, home)
	first.Stop()
	other := first.command(t.Context(), "postgres")
	other.Path, other.Args = "/bin/sleep", []string{"sleep", "60"} // of the same user, which PostgreSQL takes for its own kind
	require.NoError(t, other.Start())
	defer func() { _ = other.Process.Kill(); _ = other.Wait() }()
	text := fmt.Sprintf("%d\n%s\n%d\n%d\n", other.Process.Pid, first.data(), time.Now().Unix(), first.port)
	require.NoError(t, os.WriteFile(first.pidPath(), []byte(text), 0o600))
	if first.cred != nil {
		require.NoError(t, os.Chown(first.pidPath(), int(first.cred.Uid), int(first.cred.Gid)))
	}
	second := start(t, home)
	defer second.Stop()
	answers(t, second)
}

func TestTheFileOfAServerThatMayRunStays(t *testing.T) {
	home := folder(t)
	p := start(t, home)
	defer p.Stop()
	require.NoError(t, p.dropStale())
	assert.FileExists(t, p.pidPath(), "it runs")
	other := &Postgres{dir: t.TempDir()}
	require.NoError(t, os.Mkdir(other.data(), 0o700))
	require.NoError(t, other.dropStale(), "there is none")
	for _, text := range []string{"", "junk\n", fmt.Sprintf("%d\n", os.Getpid()), "4194303\n"} {
		require.NoError(t, os.WriteFile(other.pidPath(), []byte(text), 0o600))
		require.NoError(t, other.dropStale())
		assert.NoFileExists(t, other.pidPath(), "%q", text)
	}
}

func TestAPostgresThatCannotStartSaysWhy(t *testing.T) {
	home := folder(t)
	p := start(t, home)
	p.Stop()
	require.NoError(t, os.WriteFile(filepath.Join(p.data(), "postgresql.conf"), []byte("shared_buffers = nonsense\n"), 0o600))
	_, err := StartPostgres(t.Context(), home, slog.New(slog.DiscardHandler))
	require.Error(t, err)
	assert.Contains(t, err.Error(), "nonsense", "the error brings PostgreSQL's own words")
}

func TestAFolderThatWasRemovedByHandLeavesNothingToTheNext(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root's clusters lie elsewhere")
	}
	home := filepath.Join(t.TempDir(), "gone")
	place := placeOf(home)
	t.Cleanup(func() { _ = os.RemoveAll(place) })
	require.NoError(t, os.MkdirAll(place, 0o700))
	running := filepath.Join(place, "postmaster.pid")
	require.NoError(t, os.WriteFile(running, []byte("1"), 0o600))
	require.NoError(t, ForgetRemoved(home))
	assert.DirExists(t, place, "one that runs is left alone")
	require.NoError(t, os.Remove(running))
	require.NoError(t, os.Mkdir(home, 0o700))
	require.NoError(t, ForgetRemoved(home))
	assert.DirExists(t, place, "and that of a folder that is there")
	require.NoError(t, os.Remove(home))
	require.NoError(t, ForgetRemoved(home))
	assert.NoDirExists(t, place)
}
