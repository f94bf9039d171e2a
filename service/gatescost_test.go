package service

import (
	"database/sql"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/service/gates"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// reads counts what the database has read of the tables that a waiting gate is in.
func reads(t *testing.T, db *sql.DB) (n int64) {
	t.Helper()
	_, err := db.Exec(`SELECT pg_stat_force_next_flush()`)
	require.NoError(t, err)
	time.Sleep(1200 * time.Millisecond) // others tell of theirs once a second
	require.NoError(t, db.QueryRow(`SELECT sum(seq_tup_read + idx_tup_fetch) FROM pg_stat_user_tables
		WHERE relname IN ('gates', 'answers', 'jobs', 'attempts')`).Scan(&n))
	return n
}

// A thousand gates that wait are looked at by nobody.
func TestGatesThatWaitCostNothing(t *testing.T) {
	s, db := openRecords(t)
	ctx := asItself(t)
	addProject(t, s, "p")
	ada := with(t, s, "ada", access.Keeper)
	pipeline, findings := definition.Parse("piston/trunk.toml", []byte("[job.go.ask]\nwho = [\"keeper\"]\nquestion = \"Go on?\"\n"), nil)
	require.Empty(t, findings)
	p, err := s.Store.ProjectByName(ctx, "p")
	require.NoError(t, err)
	require.NoError(t, s.Tx(ctx, func(q ground.Q) error {
		for range 1000 {
			run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Trigger: "push", Branch: "main", Commit: "c0ffee",
				Queued: time.Now()}
			if err := s.Work.AddRun(ctx, q, &run, pipeline); err != nil {
				return err
			}
		}
		return nil
	}))
	before := reads(t, db)
	require.Greater(t, before, int64(1000), "what is read is counted")
	rest := 5 * time.Second
	time.Sleep(rest)
	perSecond := float64(reads(t, db)-before) / (rest + 1200*time.Millisecond).Seconds()
	t.Logf("%.0f rows read per second with 1,000 gates waiting", perSecond)
	assert.Less(t, perSecond, 200.0, "far fewer than there are gates")

	page, err := s.Gates.List(ada, gates.Filter{Mine: true, Limit: 200})
	require.NoError(t, err)
	assert.Len(t, page.Gates, 200)
	assert.NotZero(t, page.Next)
}
