package store_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/schedule"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/store"
)

func TestMain(m *testing.M) { testdb.Main(m, nil) }

func open(t *testing.T) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	require.NoError(t, s.AddMaster(t.Context(), store.Master{Recipient: master, Proof: []byte("proof")}))
	return s
}

// master is what records are encrypted to in these tests.
const master = "age1old"

func project(t *testing.T, s *store.Store) store.Project {
	t.Helper()
	require.NoError(t, s.AddProject(t.Context(), "p", "/srv/p.git", []byte("sealed"), master))
	p, err := s.ProjectByName(t.Context(), "p")
	require.NoError(t, err)
	return p
}

func addRun(t *testing.T, s *store.Store, p store.Project, change func(*store.Run)) store.Run {
	t.Helper()
	r := store.Run{ProjectID: p.ID, Pipeline: "trunk", Trigger: "push", Branch: "main", Commit: "c", State: state.Queued, Queued: time.Now()}
	if change != nil {
		change(&r)
	}
	require.NoError(t, s.Tx(t.Context(), func(q store.Q) error { return q.AddRun(t.Context(), &r, true) }))
	return r
}

// addAttempt queues an attempt of a job of its own.
func addAttempt(t *testing.T, s *store.Store, r store.Run, name string, labels []string, at time.Time) record.AttemptID {
	t.Helper()
	d := &definition.Job{Name: name, Machine: labels, Step: []*definition.Step{{Name: "one"}, {Name: "two"}}}
	jobs := []store.Job{{RunID: r.ID, Name: name, State: state.Queued, Ready: true}}
	jobs[0].Definition.V = d
	require.NoError(t, s.AddJobs(t.Context(), jobs))
	require.NoError(t, s.AddAttempts(t.Context(), r.ProjectID, []store.NewAttempt{{Job: jobs[0], At: at}}))
	list, err := s.Attempts(t.Context(), r.ID)
	require.NoError(t, err)
	return list[len(list)-1].ID
}

// claim gives the queue's next attempt to a runner, as a server does; ErrNotFound when there is none it can do.
func claim(ctx context.Context, s *store.Store, name string, labels []string, lease time.Duration) (a store.Attempt, err error) {
	err = s.Tx(ctx, func(q store.Q) error {
		if err := q.LockQueue(ctx); err != nil {
			return err
		}
		queue, err := q.Queue(ctx, labels, 10, time.Now())
		if err != nil {
			return err
		}
		given := queue.Assign([]schedule.Runner{{Name: name, Labels: labels}})
		if len(given) == 0 {
			return store.ErrNotFound
		}
		list, err := q.HandOut(ctx, map[record.AttemptID]store.Runner{given[0].Job.ID: {Name: name}}, lease)
		if err != nil || len(list) != 1 {
			return errors.Join(err, fmt.Errorf("%d attempts handed out", len(list)))
		}
		a = list[0]
		return nil
	})
	return a, err
}

func TestClaimsNeverGiveAJobTwice(t *testing.T) {
	s := open(t)
	r := addRun(t, s, project(t, s), nil)
	const jobs = 150
	start := time.Now().Add(-time.Hour)
	var order []record.AttemptID
	for i := range jobs {
		order = append(order, addAttempt(t, s, r, fmt.Sprintf("j%d", i), []string{"linux"}, start.Add(time.Duration(i)*time.Second)))
	}
	mac := addAttempt(t, s, r, "mac", []string{"macos"}, start.Add(-time.Hour))
	first, err := claim(t.Context(), s, "r0", []string{"linux", "amd64"}, time.Minute)
	require.NoError(t, err)
	assert.Equal(t, order[0], first.ID, "the oldest that fits, not the older one that does not")

	var mu sync.Mutex
	claimed := map[record.AttemptID]string{first.ID: "r0"}
	var all sync.WaitGroup
	for n := range 12 {
		all.Go(func() {
			for {
				a, err := claim(context.Background(), s, fmt.Sprintf("r%d", n), []string{"linux"}, time.Minute)
				if errors.Is(err, store.ErrNotFound) {
					return
				}
				if !assert.NoError(t, err) {
					return
				}
				mu.Lock()
				assert.NotContains(t, claimed, a.ID)
				claimed[a.ID] = a.Runner
				mu.Unlock()
			}
		})
	}
	all.Wait()
	assert.Len(t, claimed, jobs)
	assert.NotContains(t, claimed, mac)
	busy, err := s.Busy(t.Context())
	require.NoError(t, err)
	sum := 0
	for _, n := range busy {
		sum += n
	}
	assert.Equal(t, jobs, sum)
}

func TestALateReportChangesNothing(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id := addAttempt(t, s, addRun(t, s, project(t, s), nil), "j", []string{"linux"}, time.Now())
	_, err := claim(ctx, s, "r", []string{"linux"}, time.Minute)
	require.NoError(t, err)
	require.NoError(t, s.SetStep(ctx, store.Step{AttemptID: id, State: state.Running, FirstLine: 3}, time.UnixMilli(1000)))
	three := 3
	failed := store.Step{AttemptID: id, State: state.Failed, ExitCode: &three, FirstLine: 3, LastLine: 9}
	failed.Excerpt.V = []logline.Line{{N: 5, Text: "error: ünï \u2400"}}
	require.NoError(t, s.SetStep(ctx, failed, time.UnixMilli(2000)))
	require.NoError(t, s.EndAttempt(ctx, id, state.Failed, "lost", time.Now(), 9))
	require.NoError(t, s.EndSteps(ctx, id, state.Failed, state.Skipped, time.Now()))

	assert.ErrorIs(t, s.EndAttempt(ctx, id, state.Passed, "", time.Now(), 0), store.ErrNotFound)
	_, err = s.Beat(ctx, id, time.Minute)
	assert.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.IsRunning(ctx, id)
	assert.ErrorIs(t, err, store.ErrNotFound)
	assert.ErrorIs(t, s.SetPrepared(ctx, id, time.Now()), store.ErrNotFound)
	for step := range 2 {
		require.NoError(t, s.SetStep(ctx, store.Step{AttemptID: id, Position: step, State: state.Passed}, time.UnixMilli(3000)))
	}
	a, err := s.AttemptByID(ctx, id)
	require.NoError(t, err)
	steps, err := s.StepsOfRun(ctx, a.RunID)
	require.NoError(t, err)
	require.Len(t, steps, 2)
	assert.Equal(t, state.Failed, steps[0].State)
	assert.Equal(t, 3, *steps[0].ExitCode)
	assert.Equal(t, "error: ünï \u2400", steps[0].Excerpt.V[0].Text)
	assert.Equal(t, state.Skipped, steps[1].State)
	assert.Equal(t, state.Failed, a.State)
}

func TestLeases(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id := addAttempt(t, s, addRun(t, s, project(t, s), nil), "j", []string{"linux"}, time.Now())
	_, err := claim(ctx, s, "r", []string{"linux"}, -time.Second)
	require.NoError(t, err)
	lost, err := s.LostAttempts(ctx)
	require.NoError(t, err)
	require.Len(t, lost, 1)
	assert.Equal(t, id, lost[0].ID)
	require.NoError(t, s.ExtendLeases(ctx, time.Minute))
	lost, err = s.LostAttempts(ctx)
	require.NoError(t, err)
	assert.Empty(t, lost)
	require.NoError(t, s.AskToStop(ctx, lost0(t, s, id).RunID, state.Cancelled, "by ada"))
	a, err := s.Beat(ctx, id, time.Minute)
	require.NoError(t, err)
	assert.True(t, a.Stop)
	assert.Equal(t, "by ada", a.StopReason)
}

func lost0(t *testing.T, s *store.Store, id record.AttemptID) store.Attempt {
	t.Helper()
	a, err := s.AttemptByID(t.Context(), id)
	require.NoError(t, err)
	return a
}

func TestNumbersAreUniqueWithoutGaps(t *testing.T) {
	s := open(t)
	p := project(t, s)
	var mu sync.Mutex
	runs, builds := map[record.RunNumber]bool{}, map[version.BuildNumber]bool{}
	var all sync.WaitGroup
	const n = 40
	for i := range n {
		all.Go(func() {
			r := store.Run{ProjectID: p.ID, Pipeline: "trunk", Trigger: "push", Commit: "c", State: state.Queued, Queued: time.Now()}
			fail := i%4 == 0
			err := s.Tx(context.Background(), func(q store.Q) error {
				if err := q.AddRun(context.Background(), &r, true); err != nil {
					return err
				}
				if fail {
					return errors.New("the transaction is given up")
				}
				return nil
			})
			if fail {
				assert.Error(t, err)
				return
			}
			assert.NoError(t, err)
			mu.Lock()
			runs[r.Number], builds[r.BuildNumber] = true, true
			mu.Unlock()
		})
	}
	all.Wait()
	for i := 1; i <= n*3/4; i++ {
		assert.True(t, runs[record.RunNumber(i)], "run %d", i)
		assert.True(t, builds[version.BuildNumber(i)], "build %d", i)
	}
	broken := store.Run{ProjectID: p.ID, Pipeline: "x", Trigger: "push", Commit: "c", State: state.Failed, Queued: time.Now()}
	require.NoError(t, s.AddRun(t.Context(), &broken, false))
	assert.Zero(t, broken.BuildNumber, "what builds nothing takes no build number")
}

func TestRunsAreFilteredAndPaged(t *testing.T) {
	s := open(t)
	p := project(t, s)
	for i := range 10 {
		addRun(t, s, p, func(r *store.Run) {
			if i%2 == 0 {
				r.Branch = "work/a"
			}
			if i%5 == 0 {
				r.Pipeline = "release"
			}
			r.Findings.V = []definition.Finding{{Code: "x", Message: "it's \"quoted\""}}
			r.Env.V = map[string]string{"A": "ü\n"}
		})
	}
	numbers := func(f store.RunFilter) (out []record.RunNumber) {
		list, err := s.Runs(t.Context(), p.ID, f)
		require.NoError(t, err)
		for _, r := range list {
			out = append(out, r.Number)
		}
		return out
	}
	assert.Equal(t, []record.RunNumber{10, 9, 8}, numbers(store.RunFilter{Limit: 3}))
	assert.Equal(t, []record.RunNumber{7, 6, 5}, numbers(store.RunFilter{Limit: 3, Before: 8}))
	assert.Equal(t, []record.RunNumber{9, 7, 5, 3, 1}, numbers(store.RunFilter{Limit: 50, Branch: "work/a"}))
	assert.Equal(t, []record.RunNumber{6, 1}, numbers(store.RunFilter{Limit: 50, Pipeline: "release"}))
	assert.Empty(t, numbers(store.RunFilter{Limit: 50, State: state.Passed}))
	r, err := s.RunByNumber(t.Context(), "p", 3)
	require.NoError(t, err)
	assert.Equal(t, "it's \"quoted\"", r.Findings.V[0].Message)
	assert.Equal(t, "ü\n", r.Env.V["A"])
	latest, err := s.LatestRuns(t.Context(), []record.ProjectID{p.ID})
	require.NoError(t, err)
	require.Len(t, latest, 1)
	assert.EqualValues(t, 10, latest[0].Number)
	_, err = s.RunByNumber(t.Context(), "p", 99)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestRunStateKeepsWhatIsKnown(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	r := addRun(t, s, project(t, s), nil)
	first, later := time.Now().Add(-time.Minute).Truncate(time.Millisecond), time.Now().Truncate(time.Millisecond)
	require.NoError(t, s.SetRunState(ctx, r.ID, state.Running, "", &first, nil))
	require.NoError(t, s.SetRunState(ctx, r.ID, state.Cancelled, "stopped by ada", &later, &later))
	got, err := s.RunByID(ctx, r.ID)
	require.NoError(t, err)
	assert.True(t, got.Started.Equal(first), "the start stays the first")
	assert.True(t, got.Finished.Equal(later))
	assert.Equal(t, "stopped by ada", got.Reason)
}

func TestEventsWaitUntilTheyAreDropped(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	for i := range 3 {
		require.NoError(t, s.AddEvent(ctx, p.ID, store.Change{Project: "p", Run: record.RunNumber(i), State: state.Running}))
	}
	for range 2 {
		list, err := s.Outbox(ctx)
		require.NoError(t, err)
		require.Len(t, list, 3)
		assert.EqualValues(t, 2, list[2].Body.V.Run, "in their order")
	}
	list, err := s.Outbox(ctx)
	require.NoError(t, err)
	require.NoError(t, s.DropEvents(ctx, []int64{list[0].ID, list[1].ID}))
	list, err = s.Outbox(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.EqualValues(t, 2, list[0].Body.V.Run)
}

func TestAPushIsPlannedByOneAtATime(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id, _, err := s.AddPush(ctx, project(t, s).ID, "d1", []byte(`{}`))
	require.NoError(t, err)
	begin := func(lease time.Duration) (int, error) {
		p, err := s.BeginPlanning(ctx, id, lease)
		return p.Begun, err
	}
	n, err := begin(0) // of somebody who ended at once
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	n, err = begin(0)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	require.NoError(t, s.KeepPlanning(ctx, id, time.Hour))
	_, err = begin(time.Hour)
	assert.ErrorIs(t, err, store.ErrNotFound, "another has it")
	require.NoError(t, s.PlanningReturned(ctx, id))
	require.NoError(t, s.KeepPlanning(ctx, id, time.Hour), "what was given back is not kept")
	n, err = begin(time.Hour)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
}

func TestPushesAreTakenOnce(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	id, again, err := s.AddPush(ctx, p.ID, "d1", []byte(`{}`))
	require.NoError(t, err)
	assert.False(t, again)
	same, again, err := s.AddPush(ctx, p.ID, "d1", []byte(`{"other":1}`))
	require.NoError(t, err)
	assert.True(t, again)
	assert.Equal(t, id, same)
	require.NoError(t, s.Tx(ctx, func(q store.Q) error {
		require.NoError(t, q.TakePush(ctx, id))
		assert.ErrorIs(t, s.TakePush(ctx, id), store.ErrNotFound, "while one plans it, another passes it over")
		return q.PushPlanned(ctx, id, "1 run")
	}))
	assert.ErrorIs(t, s.TakePush(ctx, id), store.ErrNotFound)
	left, err := s.UnplannedPushes(ctx, time.Now().Add(time.Hour))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestCachesAndArtifacts(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	add := func(guard, blob string) error {
		return s.AddCache(ctx, store.Cache{ProjectID: p.ID, Name: "c", Guard: guard, Key: "k", Shape: "s", Digest: []byte{1},
			Size: 1, Blob: blob}, nil)
	}
	find := func(project record.ProjectID, guard string) (store.Cache, error) {
		return s.NearestCache(ctx, store.CacheWanted{ProjectID: project, Guard: guard, Key: "k", Shape: "s"})
	}
	require.NoError(t, add("", "first"))
	assert.ErrorIs(t, add("", "second"), store.ErrExists)
	c, err := find(p.ID, "")
	require.NoError(t, err)
	assert.Equal(t, "first", c.Blob)
	_, err = find(p.ID+1, "")
	assert.ErrorIs(t, err, store.ErrNotFound, "another project's cache is not found")
	_, err = find(p.ID, "guarded")
	assert.ErrorIs(t, err, store.ErrNotFound, "nor one that was saved under another guard")
	require.NoError(t, add("guarded", "third"))
	c, err = find(p.ID, "guarded")
	require.NoError(t, err)
	assert.Equal(t, "third", c.Blob)

	r := addRun(t, s, p, nil)
	id := addAttempt(t, s, r, "j", []string{"linux"}, time.Now())
	f := store.Artifact{Name: "apk", Path: "out/a.apk", Size: 7, SHA256: "aa", Blob: "b1"}
	require.NoError(t, s.AddArtifact(ctx, id, f))
	assert.ErrorIs(t, s.AddArtifact(ctx, id, f), store.ErrExists, "what is kept is never overwritten")
	files, err := s.Artifacts(ctx, r.ID)
	require.NoError(t, err)
	require.Len(t, files, 1)
	assert.Equal(t, "j", files[0].Job)
	_, err = s.ArtifactByID(ctx, r.ID+1, files[0].ID)
	assert.ErrorIs(t, err, store.ErrNotFound, "not by another run's address")
}

func TestADatabaseThatIsAwayIsToldApart(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	_, err := store.Open(ctx, "host=127.0.0.1 port=1 user=x dbname=x sslmode=disable")
	require.Error(t, err)
	assert.ErrorContains(t, err, "does not answer")
	assert.True(t, store.Unavailable(err))
	assert.False(t, store.Unavailable(store.ErrNotFound))
	assert.False(t, store.Unavailable(nil))
}

func TestATransactionThatIsGivenUpSaysSo(t *testing.T) {
	s := open(t)
	ctx, giveUp := context.WithCancel(t.Context())
	err := s.Tx(ctx, func(q store.Q) error {
		giveUp()
		require.Eventually(t, func() bool { return q.LockPeople(t.Context()) != nil }, 5*time.Second, time.Millisecond, "it ends with what it is for")
		return q.LockPeople(t.Context())
	})
	assert.ErrorIs(t, err, context.Canceled)
}
