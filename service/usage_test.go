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
		require.NoError(t, s.Store.SumUpDays(ctx))
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
