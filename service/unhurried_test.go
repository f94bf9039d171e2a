package service

import (
	"database/sql"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/store"
)

// slowGit puts a git before the others that waits for go to be called.
func slowGit(t *testing.T) (waits func() bool, goOn func()) {
	t.Helper()
	git, err := exec.LookPath("git")
	require.NoError(t, err)
	dir := t.TempDir()
	held, came := filepath.Join(dir, "held"), filepath.Join(dir, "came")
	require.NoError(t, os.WriteFile(held, nil, 0o600))
	script := "#!/bin/sh\n: > " + came + "\nwhile test -e " + held + "; do sleep 0.02; done\nexec " + git + " \"$@\"\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "git"), []byte(script), 0o700))
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	return func() bool { _, err := os.Stat(came); return err == nil }, func() { require.NoError(t, os.Remove(held)) }
}

func TestNoTransactionWaitsForGit(t *testing.T) {
	s, r, dsn := openWithRepositoryOn(t)
	here := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	waits, goOn := slowGit(t)
	id := s.record(t, "slow", here)
	planned := make(chan struct{})
	go func() {
		defer close(planned)
		s.Intake.PlanRecorded(asItself(t), id)
	}()
	require.Eventually(t, waits, 10*time.Second, 10*time.Millisecond)
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer db.Close()
	var open int
	require.NoError(t, db.QueryRow(`SELECT count(*) FROM pg_stat_activity
		WHERE datname = current_database() AND state LIKE 'idle in transaction%'`).Scan(&open))
	assert.Zero(t, open)
	require.NoError(t, db.QueryRow(`SELECT 1 FROM pushes WHERE id = $1 FOR UPDATE NOWAIT`, id).Scan(&open))
	_, err = s.Store.BeginPlanning(asItself(t), id, time.Minute)
	assert.ErrorIs(t, err, store.ErrNotFound, "nobody else plans it meanwhile")
	assert.Empty(t, runsOf(t, s))
	goOn()
	<-planned
	runs := runsOf(t, s)
	require.Len(t, runs, 1)
	assert.Equal(t, state.Queued, runs[0].State)
}

func TestAPlannerThatWasGivenUpWritesNothing(t *testing.T) {
	s, r, dsn := openWithRepositoryOn(t)
	here := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	waits, goOn := slowGit(t)
	id := s.record(t, "twice", here)
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer db.Close()
	planned := make(chan struct{}, 2)
	for range 2 {
		go func() {
			defer func() { planned <- struct{}{} }()
			s.Intake.PlanRecorded(asItself(t), id)
		}()
		require.Eventually(t, waits, 10*time.Second, 10*time.Millisecond)
		_, err := db.Exec(`UPDATE pushes SET planning_until = now() - interval '1 second'`)
		require.NoError(t, err)
	}
	goOn()
	<-planned
	<-planned
	assert.Len(t, runsOf(t, s), 1, "two may plan an event, one writes what comes of it")
}
