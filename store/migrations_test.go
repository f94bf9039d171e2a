package store_test

import (
	"os"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/store"
)

func schema(t *testing.T, dsn string) (*sqlx.DB, *goose.Provider) {
	t.Helper()
	db, err := sqlx.Open("pgx", dsn)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	provider, err := goose.NewProvider(goose.DialectPostgres, db.DB, os.DirFS("migrations"))
	require.NoError(t, err)
	return db, provider
}

// before is a database as an earlier version left it.
func before(t *testing.T, version int64, rows string) string {
	t.Helper()
	dsn := testdb.New(t)
	db, provider := schema(t, dsn)
	_, err := provider.UpTo(t.Context(), version)
	require.NoError(t, err)
	_, err = db.ExecContext(t.Context(), rows)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	return dsn
}

func TestSecretsOfBeforeRevisionsAreKept(t *testing.T) {
	ctx := t.Context()
	s, err := store.Open(ctx, before(t, 2, `
		INSERT INTO projects (name, remote, hook_key) VALUES ('p', '/srv/p.git', 'hook');
		INSERT INTO secrets (project_id, name, kind, ciphertext, revision, updated_by) SELECT id, 'KEY', 'text', 'sealed', 3, 'ada' FROM projects`))
	require.NoError(t, err)
	defer s.Close()
	p, err := s.ProjectByName(ctx, "p")
	require.NoError(t, err)
	secret, err := s.SecretByName(ctx, p.ID, "KEY")
	require.NoError(t, err)
	assert.Equal(t, 3, secret.Number)
	assert.Equal(t, "sealed", string(secret.Ciphertext))
	masters, err := s.Masters(ctx)
	require.NoError(t, err)
	assert.Equal(t, []store.Master{{Proof: []byte("sealed")}}, masters, "by which the right one is known")
	list, err := s.SealedToOthers(ctx, "age1new", 10)
	require.NoError(t, err)
	assert.Len(t, list, 2, "they are to be encrypted anew")
	assert.ErrorIs(t, s.KeepMaster(ctx, "age1new"), store.ErrMaster)
}

func TestTheSchemaGoesDownAndUpAgain(t *testing.T) {
	ctx, dsn := t.Context(), testdb.New(t)
	s, err := store.Open(ctx, dsn)
	require.NoError(t, err)
	require.NoError(t, s.AddMaster(ctx, store.Master{Recipient: master, Proof: []byte("proof")}))
	p := project(t, s)
	id, err := s.AddSecret(ctx, p.ID, "KEY")
	require.NoError(t, err)
	_, err = s.AddRevision(ctx, id, store.Revision{Kind: "text", Ciphertext: []byte("sealed"), SealedTo: master, By: "ada"})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	db, provider := schema(t, dsn)
	for _, version := range []int64{2, 0} {
		_, err = provider.DownTo(ctx, version)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	s, err = store.Open(ctx, dsn)
	require.NoError(t, err)
	assert.NoError(t, s.Close())
}

func TestRecordsOfANewerVersionAreLeftAlone(t *testing.T) {
	ctx, dsn := t.Context(), testdb.New(t)
	s, err := store.Open(ctx, dsn)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	db, _ := schema(t, dsn)
	_, err = db.ExecContext(ctx, `INSERT INTO goose_db_version (version_id, is_applied) VALUES (900, true); ALTER TABLE runs ADD COLUMN of_tomorrow text`)
	require.NoError(t, err)
	_, err = store.Open(ctx, dsn)
	require.ErrorIs(t, err, store.ErrNewerSchema)
	assert.ErrorContains(t, err, "900")
	var n int
	require.NoError(t, db.GetContext(ctx, &n, `SELECT count(*) FROM goose_db_version WHERE version_id = 900`))
	assert.Equal(t, 1, n)
}

// A newer server may have added columns while this one is still at work.
func TestATableMayGainColumnsWhileServing(t *testing.T) {
	ctx, dsn := t.Context(), testdb.New(t)
	s, err := store.Open(ctx, dsn)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	require.NoError(t, s.AddMaster(ctx, store.Master{Recipient: master, Proof: []byte("proof")}))
	run := addRun(t, s, project(t, s), nil)
	id := addAttempt(t, s, run, "a", []string{"linux"}, time.Now())
	require.NoError(t, s.AddEvent(ctx, run.ProjectID, store.Change{Project: "p", Run: run.Number}))
	db, _ := schema(t, dsn)
	var tables []string
	require.NoError(t, db.SelectContext(ctx, &tables, `SELECT tablename FROM pg_tables
		WHERE schemaname = 'public' AND tablename NOT LIKE 'goose%'`))
	require.Greater(t, len(tables), 15)
	for _, table := range tables {
		_, err := db.ExecContext(ctx, `ALTER TABLE "`+table+`" ADD COLUMN of_tomorrow text`)
		require.NoError(t, err)
	}
	a, err := claim(ctx, s, "r", []string{"linux"}, time.Minute)
	require.NoError(t, err)
	assert.Equal(t, id, a.ID)
	_, err = s.Beat(ctx, id, time.Minute)
	require.NoError(t, err)
	for what, read := range map[string]func() error{
		"attempts": func() error { _, err := s.Attempts(ctx, run.ID); return err },
		"steps":    func() error { _, err := s.StepsOfRun(ctx, run.ID); return err },
		"uses":     func() error { _, err := s.CacheUses(ctx, run.ID); return err },
		"acts":     func() error { _, err := s.Acts(ctx, store.ActFilter{Limit: 9}); return err },
		"lost":     func() error { _, err := s.LostAttempts(ctx); return err },
		"logs":     func() error { _, err := s.AttemptsWithLogToMove(ctx); return err },
		"outdated": func() error { _, err := s.Outdated(ctx, run.ProjectID, store.Cut{}, 9); return err },
		"kept":     func() error { _, err := s.Kept(ctx, run.ProjectID, store.Cut{}, store.KeptPage{Limit: 9}); return err },
		"runners":  func() error { _, err := s.Runners(ctx, store.Page{}); return err },
		"run":      func() error { _, err := s.RunByID(ctx, run.ID); return err },
	} {
		assert.NoError(t, read(), what)
	}
	events, err := s.Outbox(ctx)
	require.NoError(t, err)
	assert.NotEmpty(t, events)
}

func TestServersThatStartAtOnceMakeOneSchema(t *testing.T) {
	for range 3 {
		dsn := testdb.New(t)
		came := make(chan error, 4)
		for range cap(came) {
			go func() { came <- store.Prepare(t.Context(), dsn) }()
		}
		for range cap(came) {
			assert.NoError(t, <-came)
		}
	}
}
