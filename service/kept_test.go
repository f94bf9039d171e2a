package service

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/keep"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/service/report"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// leaves runs a job that keeps a file, hands one on, saves a cache and has a log, and ends it; trigger is its run's.
func leaves(t *testing.T, s *Service, trigger plan.Trigger, cache string) store.Run {
	t.Helper()
	ctx := asItself(t)
	run := planned(t, s, "[[job.a.step]]\nscript = \"true\"\n")
	w, err := workOf(s.Work.Claim(ctx, asks(t, "r", 5*time.Second)))
	require.NoError(t, err)
	require.NotNil(t, w)
	content := fmt.Sprintf("of run %d", run.Number)
	_, err = s.Work.KeepArtifact(ctx, w.Attempt, "app", "out/app", digestOf(content), strings.NewReader(content))
	require.NoError(t, err)
	require.NoError(t, s.Work.HandOver(ctx, w.Attempt, "lib", strings.NewReader(content)))
	require.NoError(t, saves(ctx, s, w.Attempt, "depot", cache, noisy(cache, 1000)))
	require.NoError(t, s.Logs.AppendLog(ctx, w.Attempt, 1, logline.Encode([]logline.Line{{Text: "a line"}})))
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli(), Lines: 1}))
	require.Eventually(t, func() bool {
		list, err := s.Store.Attempts(ctx, run.ID)
		return err == nil && list[0].LogBlob != ""
	}, 20*time.Second, 20*time.Millisecond, "its log moves")
	return run
}

func digestOf(content string) string {
	sum := sha256.Sum256([]byte(content))
	return hex.EncodeToString(sum[:])
}

// alter makes records older than a test can wait for.
func alter(t *testing.T, dsn, query string) {
	t.Helper()
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	_, err = db.ExecContext(asItself(t), query)
	require.NoError(t, err)
}

func (s *Service) blobNames(t *testing.T) (names []string) {
	t.Helper()
	require.NoError(t, blobsOf(t, s).Each(asItself(t), func(b blob.Entry) error { names = append(names, b.Name); return nil }))
	return names
}

func TestWhatIsKeptGoesByRules(t *testing.T) {
	s, dsn := openOn(t)
	ctx := asItself(t)
	old := leaves(t, s, plan.OnPush, "k1")
	release := leaves(t, s, plan.OnPush, "k2")
	landed := leaves(t, s, plan.OnPush, "k4")
	young := leaves(t, s, plan.OnPush, "k3")
	alter(t, dsn, fmt.Sprintf(`INSERT INTO versions (project_id, app, platform, name, name_key, reserved, first_build, last_build, run_id, why, lands,
		state, landed) SELECT project_id, 'app', 'ios', '1.0', '1', true, 1, 1, id, '', true, 'kept', 'c0ffee' FROM runs WHERE id = %d;
		UPDATE runs SET finished_at = now() - interval '100 days' WHERE id = %[1]d`, landed.ID))
	alter(t, dsn, fmt.Sprintf(`UPDATE runs SET finished_at = now() - interval '100 days' WHERE id IN (%d, %d); UPDATE runs SET trigger = 'tag' WHERE id = %d;
		UPDATE caches SET last_used_at = now() - interval '100 days' WHERE key IN ('%s', '%s', '%s')`, old.ID, release.ID, release.ID,
		digestOf("k1"), digestOf("k2"), digestOf("k4")))
	require.NoError(t, s.Report.SetRules(ctx, "p", keep.Rules{ArtifactRuns: 1, LogDays: 50}))
	k, err := s.Report.Kept(ctx, "p")
	require.NoError(t, err)
	assert.Equal(t, 90, k.Rules.ArtifactDays, "what is not said is the default")
	next, frees := map[string]int{}, int64(0)
	for _, sum := range k.Sums {
		next[sum.Kind] = int(sum.GoingCount)
		frees += sum.GoingBytes
	}
	assert.Equal(t, frees, k.Frees)
	assert.NotZero(t, frees)
	assert.Equal(t, map[string]int{"artifact": 1, "cache": 3, "handover": 3, "log": 3}, next)
	assert.Len(t, s.blobNames(t), 20)
	require.NoError(t, s.Report.Sweep(ctx))
	assert.Len(t, s.blobNames(t), 20-int(next["artifact"]+next["cache"]+next["handover"]+next["log"]),
		"the blobs go with the records, packs later")
	for run, want := range map[record.RunNumber]int{old.Number: 0, release.Number: 1, landed.Number: 1, young.Number: 1} {
		d, err := s.Report.Run(ctx, "p", run)
		require.NoError(t, err)
		assert.Len(t, d.Artifacts, want, "run %d", run)
	}
	_, err = s.Logs.Log(ctx, "p", old.Number, logs.LogRequest{Job: "a", Limit: 10})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	assert.ErrorContains(t, err, "not kept any longer")
	part, err := s.Logs.Log(ctx, "p", young.Number, logs.LogRequest{Job: "a", Limit: 10})
	require.NoError(t, err)
	assert.Len(t, part.Lines, 1)
	k, err = s.Report.Kept(ctx, "p")
	require.NoError(t, err)
	assert.Zero(t, k.Frees)
	assert.ErrorIs(t, s.Report.SetRules(ctx, "p", keep.Rules{LogDays: -7}), ground.ErrInvalid)

	require.NoError(t, s.Report.SetRules(ctx, "p", keep.Rules{CacheBytes: 500}))
	require.NoError(t, s.Report.Sweep(ctx))
	_, err = s.Store.NearestCache(ctx, store.CacheWanted{ProjectID: old.ProjectID, Key: digestOf("k3"), Shape: digestOf("depot")})
	assert.ErrorIs(t, err, store.ErrNotFound, "over the size the rest of the caches goes, too")
}

func TestWhatIsKeptIsListedByPages(t *testing.T) {
	s, dsn := openOn(t)
	ctx := asItself(t)
	old := leaves(t, s, plan.OnPush, "k1")
	leaves(t, s, plan.OnPush, "k2")
	alter(t, dsn, fmt.Sprintf(`UPDATE runs SET finished_at = now() - interval '400 days' WHERE id = %d; UPDATE caches SET written = 77777 WHERE key = '%s'`, old.ID, digestOf("k2")))
	all := func(project string, f report.KeptFilter) (list []api.KeptItem) {
		for f.Limit = 3; ; {
			page, err := s.Report.KeptItems(ctx, project, f)
			require.NoError(t, err)
			require.LessOrEqual(t, len(page.Items), 3)
			list = append(list, page.Items...)
			if f.After = page.Next; f.After == "" {
				return list
			}
		}
	}
	yes, no := true, false
	list := all("p", report.KeptFilter{})
	assert.Len(t, list, 8, "each once")
	assert.Len(t, all("", report.KeptFilter{}), 8)
	assert.True(t, slices.IsSortedFunc(list, func(a, b api.KeptItem) int { return a.Since.Compare(b.Since) }))
	assert.Greater(t, all("p", report.KeptFilter{Largest: true})[0].Size, int64(77777))
	assert.Len(t, all("p", report.KeptFilter{Kind: "cache"}), 2)
	goes := all("p", report.KeptFilter{Goes: &yes})
	assert.Len(t, goes, 2, "handover and log; the artifact is of the latest runs, the cache young")
	assert.Len(t, all("p", report.KeptFilter{Goes: &no}), 6)
	for _, bad := range []string{"x", "!", "eyJXaGF0IjoiXHUwMDAwIn0", "eyJLZXkiOiJ4In0"} {
		_, err := s.Report.KeptItems(ctx, "p", report.KeptFilter{After: bad, Limit: 3})
		assert.ErrorIs(t, err, ground.ErrInvalid, bad)
	}
}

func TestOrphansAreFoundAndNothingElse(t *testing.T) {
	s := open(t)
	run := leaves(t, s, plan.OnPush, "k")
	_, err := blobsOf(t, s).Put(asItself(t), "caches/1/left-by-a-crash", strings.NewReader("x"))
	require.NoError(t, err)
	require.NoError(t, s.Report.Sweep(asItself(t)))
	assert.Contains(t, s.blobNames(t), "caches/1/left-by-a-crash", "one that is young may be on its way to its record")
	require.NoError(t, s.Report.DropOrphans(asItself(t), time.Now().Add(time.Hour)))
	assert.NotContains(t, s.blobNames(t), "caches/1/left-by-a-crash")
	assert.Len(t, s.blobNames(t), 5, "what records speak of stays")
	d, err := s.Report.Run(asItself(t), "p", run.Number)
	require.NoError(t, err)
	_, content, err := s.Report.OpenArtifact(asItself(t), "p", run.Number, d.Artifacts[0].ID)
	require.NoError(t, err)
	_, _ = io.Copy(io.Discard, content)
	require.NoError(t, content.Close())
}

func TestAFullDiskGivesUpCachesFirstAndHoldsJobs(t *testing.T) {
	s := open(t)
	run := leaves(t, s, plan.OnPush, "k")
	s.Space.Reserve = 1 << 60 // no disk has as much
	s.Space.Again()
	require.NoError(t, s.Report.MakeRoom(asItself(t)))
	_, err := s.Store.NearestCache(asItself(t), store.CacheWanted{ProjectID: run.ProjectID, Key: digestOf("k"), Shape: digestOf("depot")})
	assert.ErrorIs(t, err, store.ErrNotFound)
	assert.Len(t, s.blobNames(t), 4, "artifacts, what is handed on and logs stay, and a pack that a job may count on")
	planned(t, s, "[[job.a.step]]\nscript = \"true\"\n")
	w, err := workOf(s.Work.Claim(asItself(t), asks(t, "r", 300*time.Millisecond)))
	require.NoError(t, err)
	assert.Nil(t, w)
	page, err := s.Work.Queue(asItself(t), work.QueueFilter{Limit: 1})
	require.NoError(t, err)
	assert.Contains(t, page.Jobs[0].Why, "the server's disk is almost full")
	h := s.Health(asItself(t))
	assert.False(t, h.OK)
	assert.True(t, h.Ready(), "who looks is answered")
	assert.Contains(t, h.Trouble(), "disk: ")
	s.Space.Reserve = 0
	s.Space.Again()
	w, err = workOf(s.Work.Claim(asItself(t), asks(t, "r", 5*time.Second)))
	require.NoError(t, err)
	assert.NotNil(t, w, "it goes on by itself")
}

func TestARemovedProjectLeavesNothing(t *testing.T) {
	s := open(t)
	leaves(t, s, plan.OnPush, "k")
	require.NotEmpty(t, s.blobNames(t))
	require.NoError(t, s.Projects.RemoveProject(asItself(t), "p"))
	require.Eventually(t, func() bool { return len(s.blobNames(t)) == 0 }, 20*time.Second, 50*time.Millisecond)
	_, err := s.Projects.Project(asItself(t), "p")
	assert.ErrorIs(t, err, ground.ErrNotFound)
	assert.ErrorIs(t, s.Projects.RemoveProject(asItself(t), "p"), ground.ErrNotFound)
}
