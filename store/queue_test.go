package store_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/schedule"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/store"
)

func queueOf(t *testing.T, s *store.Store, labels []string, perLine int) *schedule.Queue {
	t.Helper()
	q, err := s.Queue(t.Context(), labels, perLine, time.Now())
	require.NoError(t, err)
	return q
}

func TestTheQueueIsReadWithWhatADecisionDependsOn(t *testing.T) {
	s := open(t)
	p := project(t, s)
	first := addRun(t, s, p, func(r *store.Run) { r.Group, r.Priority, r.AtOnce = "release", 7, 2 })
	second := addRun(t, s, p, nil)
	at := time.Now().Add(-time.Minute)
	for i := range 5 {
		addAttempt(t, s, second, fmt.Sprintf("s%d", i), []string{"linux"}, at)
	}
	addAttempt(t, s, first, "f", []string{"linux", "huge"}, at)
	require.NoError(t, s.HoldProject(t.Context(), p.ID, "the feed is down", "ada"))
	require.NoError(t, s.LimitProject(t.Context(), p.ID, 3))

	q := queueOf(t, s, nil, 0)
	require.Len(t, q.Jobs, 6)
	assert.Len(t, q.Runs, 2, "a group depends on other runs")
	assert.Equal(t, schedule.Project{Held: "the feed is down", AtOnce: 3}, q.Projects[p.ID])
	for _, j := range q.Jobs {
		if j.Name == "f" {
			assert.Equal(t, []any{"release", 7, 2, first.Number}, []any{j.Group, j.Priority, j.AtOnce, j.Number})
		}
	}
	assert.Len(t, queueOf(t, s, nil, 2).Jobs, 3, "two of each kind")
	q = queueOf(t, s, []string{"linux"}, 0)
	assert.Len(t, q.Jobs, 5, "what needs more than these labels is left out")
	assert.Empty(t, q.Runs, "none of these depends on other runs")
}

func TestHandingOutBeginsJobAndRun(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	r := addRun(t, s, p, func(r *store.Run) { r.LimitMs = 60_000 })
	id := addAttempt(t, s, r, "j", []string{"linux"}, time.Now())
	gone := addAttempt(t, s, r, "cancelled", []string{"linux"}, time.Now())
	jobs, err := s.Jobs(ctx, r.ID)
	require.NoError(t, err)
	for _, j := range jobs {
		if j.Name == "cancelled" {
			require.NoError(t, s.SetJob(ctx, j.ID, state.Cancelled, "stopped by ada", true))
		}
	}
	runner := store.Runner{Name: "attic"}
	runner.Tools.V = map[string]string{"clang": "14.0.6"}
	given, err := s.HandOut(ctx, map[record.AttemptID]store.Runner{id: runner, gone: runner}, time.Minute)
	require.NoError(t, err)
	require.Len(t, given, 1, "a job that was cancelled in this moment is not handed out")
	assert.Equal(t, id, given[0].ID)
	assert.Equal(t, "attic", given[0].Runner)
	assert.Equal(t, map[string]string{"clang": "14.0.6"}, given[0].ToolsFound.V)
	run, err := s.RunByID(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, state.Running, run.State)
	require.NotNil(t, run.Started)
	job, err := s.JobByID(ctx, given[0].JobID)
	require.NoError(t, err)
	assert.Equal(t, state.Running, job.State)
	events, err := s.Outbox(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, events)
	assert.Equal(t, store.Change{Project: "p", Run: r.Number, State: state.Running}, events[0].Body.V)

	again, err := s.HandOut(ctx, map[record.AttemptID]store.Runner{id: {Name: "other"}}, time.Minute)
	require.NoError(t, err)
	assert.Empty(t, again, "nothing is given twice")
	require.NoError(t, s.SetRunState(ctx, r.ID, state.Queued, "", nil, nil))
	run, err = s.RunByID(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, state.Running, run.State, "what has begun is not queued any more")

	require.NoError(t, s.TakeBack(ctx, given[0]))
	job, err = s.JobByID(ctx, given[0].JobID)
	require.NoError(t, err)
	assert.Equal(t, state.Queued, job.State)
	again, err = s.HandOut(ctx, map[record.AttemptID]store.Runner{id: {Name: "other"}}, time.Minute)
	require.NoError(t, err)
	assert.Len(t, again, 1, "what went back can be given to another")
}

func TestRunsThatHaveBegunComeFirst(t *testing.T) {
	s := open(t)
	p := project(t, s)
	older, begun := addRun(t, s, p, nil), addRun(t, s, p, nil)
	for i := range 3 {
		addAttempt(t, s, older, fmt.Sprintf("o%d", i), []string{"linux"}, time.Now())
	}
	first := addAttempt(t, s, begun, "b0", []string{"linux"}, time.Now())
	addAttempt(t, s, begun, "b1", []string{"linux"}, time.Now())
	_, err := s.HandOut(t.Context(), map[record.AttemptID]store.Runner{first: {Name: "r"}}, time.Minute)
	require.NoError(t, err)
	q := queueOf(t, s, nil, 1)
	require.Len(t, q.Jobs, 1)
	assert.Equal(t, "b1", q.Jobs[0].Name, "or a run at work could wait for ever behind older ones")
	assert.Equal(t, 1, q.Projects[p.ID].Working)
}

func TestTriesAndReopening(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	r := addRun(t, s, project(t, s), nil)
	id := addAttempt(t, s, r, "j", []string{"linux"}, time.Now())
	a, err := s.AttemptByID(ctx, id)
	require.NoError(t, err)
	require.NoError(t, s.MarkLost(ctx, id))
	job, err := s.JobByID(ctx, a.JobID)
	require.NoError(t, err)
	require.NoError(t, s.AddAttempts(ctx, r.ProjectID, []store.NewAttempt{{Job: job, At: time.Now(), Wait: time.Hour}}))
	all, lost, err := s.Tries(ctx, job.ID)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 1}, []int{all, lost})
	list, err := s.Attempts(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, 2, list[1].Number, "numbers go on")
	require.NotNil(t, list[1].NotBefore)
	assert.WithinDuration(t, time.Now().Add(time.Hour), *list[1].NotBefore, time.Minute)

	now := time.Now()
	require.NoError(t, s.SetRunState(ctx, r.ID, state.Failed, "broken", &now, &now))
	require.NoError(t, s.Reopen(ctx, r.ID))
	run, err := s.RunByID(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, state.Queued, run.State)
	assert.Empty(t, run.Reason)
	assert.Nil(t, run.Finished)
	assert.Equal(t, 1, run.Reopenings)
	all, _, err = s.Tries(ctx, job.ID)
	require.NoError(t, err)
	assert.Zero(t, all, "what was tried before does not count")
}

func TestWhatASettlementReads(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	r := addRun(t, s, project(t, s), nil)
	jobs := []store.Job{{RunID: r.ID, Name: "done", State: state.Passed, Ready: true}, {RunID: r.ID, Position: 1, Name: "waits", State: state.Queued}}
	for i := range jobs {
		jobs[i].Definition.V = &definition.Job{Name: jobs[i].Name, Of: "group", Advisory: i == 0, When: "trusted", After: []string{"x"}}
	}
	require.NoError(t, s.AddJobs(ctx, jobs))
	list, err := s.JobsToSettle(ctx, r.ID)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Empty(t, list[0].Definition.V.When, "of what is over only what counts for others")
	assert.True(t, list[0].Definition.V.Advisory)
	assert.Equal(t, "group", list[0].Definition.V.Of)
	assert.Equal(t, "trusted", list[1].Definition.V.When, "what waits is whole")
	list[1].State, list[1].Reason = state.Skipped, "its condition is not met"
	require.NoError(t, s.SettleJobs(ctx, list[1:]))
	all, err := s.Jobs(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, "trusted", all[0].Definition.V.When, "the rest is as it was")
	assert.Equal(t, state.Skipped, all[1].State)
}

func TestSchedulesHeadsAndOwnCommits(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	next := time.Now().Add(time.Hour).Truncate(time.Second)
	night := store.Schedule{Pipeline: "nightly", Name: "night", Cron: "0 3 * * *", Zone: "UTC", Next: next}
	noon := store.Schedule{Pipeline: "nightly", Name: "noon", Cron: "0 12 * * *", Next: next}
	require.NoError(t, s.SetSchedules(ctx, p.ID, []store.Schedule{night, noon}))
	night.Next = next.Add(time.Hour)
	noon.Cron, noon.Next = "30 12 * * *", next.Add(time.Hour)
	require.NoError(t, s.SetSchedules(ctx, p.ID, []store.Schedule{night, noon}))
	list, err := s.Schedules(ctx, p.ID)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.True(t, list[0].Next.Equal(next), "one that is as it was keeps its time")
	assert.True(t, list[1].Next.Equal(next.Add(time.Hour)), "one that has changed has a new one")
	due, err := s.DueSchedules(ctx, next.Add(time.Minute))
	require.NoError(t, err)
	require.Len(t, due, 1)
	require.NoError(t, s.Tx(ctx, func(q store.Q) error {
		_, err := q.TakeSchedule(ctx, due[0])
		require.NoError(t, err)
		_, err = s.TakeSchedule(ctx, due[0])
		assert.ErrorIs(t, err, store.ErrNotFound, "another server has it")
		return q.ScheduleDone(ctx, due[0], next.Add(24*time.Hour), "late")
	}))
	_, err = s.TakeSchedule(ctx, due[0])
	assert.ErrorIs(t, err, store.ErrNotFound, "it has been dealt with")
	require.NoError(t, s.SetSchedules(ctx, p.ID, nil))
	list, err = s.Schedules(ctx, p.ID)
	require.NoError(t, err)
	assert.Empty(t, list)

	head, err := s.Head(ctx, p.ID, "trunk", "main")
	require.NoError(t, err)
	assert.Empty(t, head)
	for _, c := range []string{"one", "two"} {
		require.NoError(t, s.SetHead(ctx, p.ID, "trunk", "main", c))
	}
	head, err = s.Head(ctx, p.ID, "trunk", "main")
	require.NoError(t, err)
	assert.Equal(t, "two", head)
	for range 2 {
		require.NoError(t, s.AddOwnCommit(ctx, p.ID, "ours"))
	}
	for commit, want := range map[string]bool{"ours": true, "theirs": false} {
		own, err := s.IsOwnCommit(ctx, p.ID, commit)
		require.NoError(t, err)
		assert.Equal(t, want, own)
	}
}

func TestWhatIsHandedOnAndWhatPassedLast(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := project(t, s)
	passed := addRun(t, s, p, func(r *store.Run) { r.State = state.Passed })
	elsewhere := addRun(t, s, p, func(r *store.Run) { r.State, r.Branch = state.Passed, "work/a" })
	addRun(t, s, p, func(r *store.Run) { r.State, r.Branch, r.Outside = state.Passed, "", true })
	last, err := s.LastPassed(ctx, store.Run{ProjectID: p.ID, Pipeline: "trunk", Branch: "main", Number: 100})
	require.NoError(t, err)
	assert.Equal(t, passed.Number, last.Number, "of the branch first")
	last, err = s.LastPassed(ctx, store.Run{ProjectID: p.ID, Pipeline: "trunk", Branch: "new", Number: 100})
	require.NoError(t, err)
	assert.Equal(t, elsewhere.Number, last.Number, "else of any, but never one from outside")
	_, err = s.LastPassed(ctx, store.Run{ProjectID: p.ID, Pipeline: "other", Number: 100})
	assert.ErrorIs(t, err, store.ErrNotFound)

	id := addAttempt(t, s, passed, "core", []string{"linux"}, time.Now())
	h := store.Handover{Name: "library", Blob: "b1", Size: 3}
	require.NoError(t, s.AddHandover(ctx, id, h))
	assert.ErrorIs(t, s.AddHandover(ctx, id, h), store.ErrExists)
	got, err := s.HandoverOf(ctx, passed.ID, "core", "library")
	require.NoError(t, err)
	assert.Equal(t, store.Handover{Job: "core", Name: "library", Blob: "b1", Size: 3}, got)
	_, err = s.HandoverOf(ctx, elsewhere.ID, "core", "library")
	assert.ErrorIs(t, err, store.ErrNotFound, "another run's is not found")
}

// A try of a search is read last of its kind, so that no number of them keeps a push from being read.
func TestTriesAreReadLast(t *testing.T) {
	s := open(t)
	p := project(t, s)
	at := time.Now().Add(-time.Minute)
	for range 3 {
		try := addRun(t, s, p, func(r *store.Run) { r.Bisection, r.Group = 7, "release" })
		addAttempt(t, s, try, "core", []string{"linux"}, at)
	}
	push := addRun(t, s, p, func(r *store.Run) { r.Group = "release" })
	addAttempt(t, s, push, "core", []string{"linux"}, at.Add(time.Second))
	q := queueOf(t, s, nil, 1)
	require.Len(t, q.Jobs, 1)
	assert.Equal(t, push.Number, q.Jobs[0].Number)
	last := 0
	for _, r := range q.Runs {
		if r.Last {
			last++
			assert.NotEqual(t, push.Number, r.Number)
		}
	}
	assert.Equal(t, 3, last)

	list, err := s.Runs(t.Context(), p.ID, store.RunFilter{Limit: 9})
	require.NoError(t, err)
	require.Len(t, list, 1, "they are in no list of runs that does not ask for them")
	list, err = s.Runs(t.Context(), p.ID, store.RunFilter{Limit: 9, Tries: true})
	require.NoError(t, err)
	assert.Len(t, list, 4)
	addRun(t, s, p, func(r *store.Run) { r.Bisection = 7 })
	latest, err := s.LatestRuns(t.Context(), []record.ProjectID{p.ID})
	require.NoError(t, err)
	require.Len(t, latest, 1)
	assert.Equal(t, push.Number, latest[0].Number)
	ticks, err := s.Ticks(t.Context(), p.ID, 9)
	require.NoError(t, err)
	assert.Len(t, ticks, 1)
}
