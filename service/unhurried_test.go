package service

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/intake"
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
		s.planEvent(t, asItself(t), id)
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
	p, err := s.Store.PushByID(asItself(t), id)
	require.NoError(t, err)
	planned := make(chan struct{}, 2)
	for range 2 { // of two servers, each of which thinks that it alone has it
		other := intake.New(s.Ground, s.Vault, s.Secrets, s.Work, "")
		go func() {
			defer func() { planned <- struct{}{} }()
			other.PlanRecorded(asItself(t), p.ProjectID, id)
		}()
		require.Eventually(t, func() bool {
			var held bool
			require.NoError(t, db.QueryRow(`SELECT coalesce(planning_until > now(), false) FROM pushes`).Scan(&held))
			return held && waits()
		}, 10*time.Second, 5*time.Millisecond)
		_, err := db.Exec(`UPDATE pushes SET planning_until = now() - interval '1 second'`)
		require.NoError(t, err)
	}
	goOn()
	<-planned
	<-planned
	assert.Len(t, runsOf(t, s), 1, "two may plan an event, one writes what comes of it")
}

// A repository that does not answer holds up its own project's events, which keep their order, and nobody else's.
func TestARepositoryThatHangsHoldsUpItsOwnEventsOnly(t *testing.T) {
	s, r, dsn := openWithRepositoryOn(t)
	here := r.commit(map[string]string{"piston/trunk.toml": "supersede = \"none\"\n[trigger.push]\n" + step})
	waits, goOn := slowGit(t)
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer db.Close()
	app, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	for n := range 30 {
		_, err := s.Intake.Receive(asItself(t), app, fmt.Sprint("d", n), intake.Spooled{Push: &api.PushData{
			Updates: []plan.RefUpdate{{Ref: fmt.Sprintf("refs/heads/b%d", n), Before: plan.NoCommit, After: here}}}}, 0)
		require.NoError(t, err)
	}
	require.Eventually(t, waits, 10*time.Second, 10*time.Millisecond)
	var begun int
	require.NoError(t, db.QueryRow(`SELECT count(*) FROM pushes WHERE begun > 0`).Scan(&begun))
	assert.Equal(t, 1, begun, "one at a time, and what waits is not counted as begun")
	goOn()
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 30 }, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, db.QueryRow(`SELECT count(*) FROM pushes WHERE begun > 1 OR planned_at IS NULL`).Scan(&begun))
	assert.Zero(t, begun)
}
