package service

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

func TestABudgetWarnsOnceAndHoldsWhenItIsSpent(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	ran(t, s, course{compile: 1000, test: 49_000})
	goesAgain := func() { ran(t, s, course{compile: 1000, test: 49_000, ends: state.Failed}) }
	u, err := s.History.SetBudget(ctx, "p", api.NewBudget{Minutes: 1, Hold: true})
	require.NoError(t, err)
	assert.Equal(t, "warned", u.Budget.State, "80 per cent, where nobody says otherwise")
	assert.EqualValues(t, 83, u.Budget.Percent)
	now := time.Now()
	require.NoError(t, s.History.WatchBudgets(ctx, now))
	require.NoError(t, s.History.WatchBudgets(ctx, now))
	p, err := s.Projects.Project(ctx, "p")
	require.NoError(t, err)
	assert.Empty(t, p.Held)
	goesAgain()
	require.NoError(t, s.History.WatchBudgets(ctx, now))
	require.NoError(t, s.History.WatchBudgets(ctx, now))
	p, err = s.Projects.Project(ctx, "p")
	require.NoError(t, err)
	assert.Contains(t, p.Held, "budget of 1 minutes")
	told := map[string]int{}
	page, err := s.Audit(ctx, ground.AuditFilter{Limit: 50})
	require.NoError(t, err)
	for _, a := range page.Acts {
		told[a.Act]++
	}
	assert.Equal(t, [3]int{1, 1, 1}, [3]int{told["budget.warn"], told["budget.spent"], told["project.hold"]}, "each once")
	// In the next month it goes on by itself.
	require.NoError(t, s.History.WatchBudgets(ctx, now.AddDate(0, 1, 0)))
	p, err = s.Projects.Project(ctx, "p")
	require.NoError(t, err)
	assert.Empty(t, p.Held)

	u, err = s.History.Usage(ctx, "p", api.UsageFilter{By: "job"})
	require.NoError(t, err)
	require.Len(t, u.Parts, 1)
	assert.Equal(t, "trunk › core", u.Parts[0].Name)
	assert.Equal(t, 2, u.Parts[0].Runs)
	waste := map[string]int{}
	for _, w := range u.Waste {
		waste[w.Name] = w.Runs
	}
	assert.Equal(t, 1, waste["flaky"], "it failed and passed on the same content")
	for _, by := range []string{"pipeline", "machine", "person", "project"} {
		all, err := s.History.Usage(ctx, "", api.UsageFilter{By: by})
		require.NoError(t, err)
		assert.Len(t, all.Parts, 1, by)
	}
	_, err = s.History.Usage(ctx, "p", api.UsageFilter{By: "job", Month: "2026-13"})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	require.NoError(t, s.History.DropBudget(ctx, "p"))
	assert.ErrorIs(t, s.History.DropBudget(ctx, "p"), ground.ErrNotFound)
}

func TestDaysThatAreSummedUpComeToTheSame(t *testing.T) {
	s, dsn := openOn(t)
	ctx := asItself(t)
	for n := range 4 {
		ran(t, s, course{compile: 1000, test: 9000, commit: fmt.Sprint(n)})
	}
	alter(t, dsn, `UPDATE spans SET took_ms = 10000, ended_at = ended_at - (run * 20 || ' days')::interval`)
	p, err := s.Store.ProjectByName(ctx, "p")
	require.NoError(t, err)
	now := time.Now()
	of := store.UsageFilter{Project: p.ID, From: now.AddDate(-1, 0, 0), To: now}
	before, err := s.Store.Used(ctx, of, now)
	require.NoError(t, err)
	assert.Zero(t, before, "they are long over, and nobody has summed them up")
	alter(t, dsn, `DELETE FROM used_days`)
	for range 2 {
		require.NoError(t, s.History.SumUpDays(ctx))
		used, err := s.Store.Used(ctx, of, now)
		require.NoError(t, err)
		assert.EqualValues(t, 40_000, used)
	}
	months, err := s.Store.UsageByMonth(ctx, of, now)
	require.NoError(t, err)
	var sum int64
	for _, m := range months {
		sum += m.TookMs
	}
	assert.EqualValues(t, 40_000, sum)
	// Today's are there at once.
	ran(t, s, course{compile: 1000, test: 9000})
	used, err := s.Store.Used(ctx, store.UsageFilter{From: now.AddDate(-1, 0, 0), To: now.Add(time.Hour)}, now)
	require.NoError(t, err)
	assert.InDelta(t, 50_025, used, 1000)
}

// What is told of a month long over, from what was summed up by day, is what was told of it meanwhile; and a run that
// goes on into the next day is one.
func TestUsageOfDaysLongOverIsWhatItWas(t *testing.T) {
	s, dsn := openOn(t)
	ctx := asItself(t)
	missed := []api.CacheUse{{Name: "deps", Key: "k"}}
	for n := range 3 {
		ran(t, s, course{compile: 1000, test: 9000, commit: fmt.Sprint(n)})
	}
	ran(t, s, course{compile: 9000, test: 9000, commit: "3", caches: missed})
	ran(t, s, course{compile: 1000, test: 4000, commit: "2", ends: state.Failed})
	alter(t, dsn, `UPDATE runs SET state = 'cancelled', reason = 'superseded by run 3' WHERE number = 2`)
	alter(t, dsn, `INSERT INTO spans (place_id, run, attempt, ended_at, took_ms, waited_ms, state)
		SELECT s.place_id, s.run, 2, s.ended_at + interval '1 minute', 2000, 7, 'passed' FROM spans s
		JOIN places p ON p.id = s.place_id AND p.kind = 'job' WHERE s.run = 1`)
	now := time.Now()
	told := func(from, to time.Time) map[string][]store.UsedPart {
		all := map[string][]store.UsedPart{}
		of := store.UsageFilter{From: from, To: to}
		for _, by := range []string{"project", "pipeline", "job", "machine", "person"} {
			list, err := s.Store.UsageBy(ctx, of, by, now)
			require.NoError(t, err)
			require.Len(t, list, 1, by)
			assert.Equal(t, 5, list[0].Runs, by)
			assert.Positive(t, list[0].WaitMs, by)
			all[by] = list
		}
		list, err := s.Store.Waste(ctx, of, now)
		require.NoError(t, err)
		for i := range list {
			if kind := list[i].Name; kind != "planning" {
				assert.Equal(t, 1, list[i].Runs, kind)
				assert.Positive(t, list[i].TookMs, kind)
			}
		}
		all["waste"] = list
		return all
	}
	lately := told(now.Add(-time.Hour), now.Add(time.Hour))
	alter(t, dsn, `UPDATE spans SET ended_at = ended_at - interval '20 days'`)
	alter(t, dsn, `UPDATE runs SET queued_at = queued_at - interval '20 days'`)
	month := func() map[string][]store.UsedPart { return told(now.AddDate(0, 0, -25), now.Add(time.Hour)) }
	require.NoError(t, s.History.SumUpDays(ctx))
	assert.Equal(t, lately, month())
	alter(t, dsn, `UPDATE spans SET ended_at = ended_at + interval '1 day' WHERE attempt = 2`)
	for range 2 {
		require.NoError(t, s.History.SumUpDays(ctx))
		assert.Equal(t, lately, month())
	}
}

// A clock that was ahead for a while, and is set back, stops no day from being summed up.
func TestAClockSetBackHoldsUpNoSums(t *testing.T) {
	s, dsn := openOn(t)
	ctx := asItself(t)
	now := time.Now()
	took := func(commit string, days int) {
		n := ran(t, s, course{compile: 1000, test: 9000, commit: commit})
		alter(t, dsn, fmt.Sprintf(`UPDATE spans SET took_ms = 10000, ended_at = ended_at + interval '%d days'
			WHERE run = %d`, days, n))
		require.NoError(t, s.History.SumUpDays(ctx))
	}
	took("a", 400)
	took("b", -20)
	took("c", -19)
	of := store.UsageFilter{From: now.AddDate(0, -1, 0), To: now}
	used, err := s.Store.Used(ctx, of, now)
	require.NoError(t, err)
	assert.EqualValues(t, 20_000, used)
	of.To = now.AddDate(2, 0, 0)
	used, err = s.Store.Used(ctx, of, now)
	require.NoError(t, err)
	assert.EqualValues(t, 30_000, used, "what is of days to come counts there, and once")
}

// Days are summed up while projects are removed: neither waits for the other for ever.
func TestProjectsAreRemovedWhileDaysAreSummedUp(t *testing.T) {
	s, dsn := openOn(t)
	ctx := asItself(t)
	ran(t, s, course{compile: 1000, test: 9000})
	for i := range 40 {
		addProject(t, s, fmt.Sprint("other", i))
	}
	alter(t, dsn, `INSERT INTO places (project_id, pipeline, job, kind, name, machine)
		SELECT id, 'trunk', 'core', 'job', '', 'linux' FROM projects WHERE name LIKE 'other%'`)
	alter(t, dsn, `INSERT INTO spans (place_id, run, attempt, ended_at, took_ms, state)
		SELECT p.id, n, 1, now() - n * interval '1 hour', 1000, 'passed' FROM places p, generate_series(1, 200) AS n
		WHERE p.machine = 'linux'`)
	ended := make(chan error, 1)
	go func() {
		var err error
		for i := 0; i < 40 && err == nil; i++ {
			err = s.Projects.RemoveProject(ctx, fmt.Sprint("other", i))
		}
		ended <- err
	}()
	for summed := 0; ; summed++ {
		select {
		case err := <-ended:
			require.NoError(t, err)
			assert.Positive(t, summed)
			return
		default:
			require.NoError(t, s.History.SumUpDays(ctx))
		}
	}
}
