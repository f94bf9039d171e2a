package service

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/service/report"
	"gentlepiston.example/piston/service/work"
)

// Whoever turns the pages of a list sees each of it once, whatever the size of a page.
func TestPagesHoldEverythingOnce(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	const n = 5
	before := plan.NoCommit
	for i := range n {
		here := r.commit(map[string]string{"piston/trunk.toml": "supersede = \"none\"\n[trigger.push]\n" + step, "count": fmt.Sprint(i)})
		s.pushed(t, "main", before, here)
		before = here
	}
	all, err := s.Audit(ctx, ground.AuditFilter{Limit: 100})
	require.NoError(t, err)
	for limit := 1; limit <= n+1; limit++ {
		runs := turned(t, func(next record.RunNumber) ([]api.Run, record.RunNumber, error) {
			page, err := s.Report.Runs(ctx, "app", report.RunFilter{Before: next, Limit: limit})
			return page.Runs, page.Next, err
		}, limit)
		for i, run := range runs {
			assert.EqualValues(t, n-i, run.Number, "pages of %d", limit)
		}
		assert.Len(t, runs, n, "pages of %d", limit)
		pushes := turned(t, func(next record.PushID) ([]api.Push, record.PushID, error) {
			page, err := s.Intake.Pushes(ctx, "app", intake.PushFilter{Before: next, Limit: limit})
			return page.Pushes, page.Next, err
		}, limit)
		assert.Len(t, pushes, n, "pages of %d", limit)
		assert.True(t, slices.IsSortedFunc(pushes, func(a, b api.Push) int { return int(b.ID - a.ID) }))
		acts := turned(t, func(next int64) ([]api.Act, int64, error) {
			page, err := s.Audit(ctx, ground.AuditFilter{Before: next, Limit: limit})
			return page.Acts, page.Next, err
		}, limit)
		assert.Equal(t, all.Acts, acts, "pages of %d", limit)
		jobs := turned(t, func(next int) ([]api.QueuedJob, int, error) {
			page, err := s.Work.Queue(ctx, work.QueueFilter{After: next, Limit: limit})
			return page.Jobs, page.Next, err
		}, limit)
		assert.Len(t, jobs, n, "pages of %d", limit)
		for i, j := range jobs {
			assert.Equal(t, i+1, j.Place, "pages of %d", limit)
		}
	}
}

// turned turns the pages of a list to its end. None has more than limit.
func turned[T any, N comparable](t *testing.T, page func(next N) ([]T, N, error), limit int) (all []T) {
	t.Helper()
	for next, none := *new(N), *new(N); ; {
		some, after, err := page(next)
		require.NoError(t, err)
		require.LessOrEqual(t, len(some), limit)
		all = append(all, some...)
		if next = after; next == none {
			return all
		}
	}
}

func TestWhoSeesWhichProjects(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	for _, name := range []string{"almanac", "charts", "depot"} {
		addProject(t, s, name)
	}
	ada := addPerson(t, s, "ada")
	require.NoError(t, s.People.Grant(ctx, api.Grant{Project: "almanac", Person: "ada", Role: access.Keeper}))
	require.NoError(t, s.People.Grant(ctx, api.Grant{Project: "depot", Person: "ada", Role: access.Reader}))
	sees := func(w ground.Who) (names []string) {
		t.Helper()
		list, err := s.Projects.Projects(ground.WithWho(t.Context(), w), api.Page{})
		require.NoError(t, err)
		for _, p := range list {
			names = append(names, p.Name)
		}
		return names
	}
	me := func(w ground.Who) map[string]access.Role {
		t.Helper()
		m, err := s.People.Me(ground.WithWho(t.Context(), w))
		require.NoError(t, err)
		return m.Roles
	}
	assert.Equal(t, []string{"almanac", "depot"}, sees(ada))
	assert.Equal(t, map[string]access.Role{"almanac": access.Keeper, "depot": access.Reader}, me(ada))
	depot, err := s.Store.ProjectByName(ctx, "depot")
	require.NoError(t, err)
	bound := ada
	bound.Project, bound.ProjectID = "depot", depot.ID
	assert.Equal(t, []string{"depot"}, sees(bound))
	assert.Equal(t, map[string]access.Role{"depot": access.Reader}, me(bound))
	ruler := ground.Who{ID: ada.ID, Name: "ada", Kind: api.PersonToken, Administrator: true}
	assert.Equal(t, []string{"almanac", "charts", "depot"}, sees(ruler))
	assert.Equal(t, map[string]access.Role{"*": access.Keeper}, me(ruler))
	ruler.Project, ruler.ProjectID = "depot", depot.ID
	assert.Equal(t, []string{"depot"}, sees(ruler), "a token of one project is not worth more by its person")
	stranger := addPerson(t, s, "ben")
	assert.Empty(t, sees(stranger))
	assert.Empty(t, me(stranger))
	_, err = s.VisibleProject(ground.WithWho(t.Context(), stranger), "depot")
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

func TestALogIsThatOfItsJobAndAttempt(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	run := planned(t, s, "[job.first]\nretry = { times = 1, exit_codes = [3] , wait = \"1ms\" }\n[[job.first.step]]\nscript = \"true\"\n"+
		"[job.second]\nafter = [\"first\"]\n[[job.second.step]]\nscript = \"true\"\n")
	code := 3
	say := func(text string, to state.State) {
		t.Helper()
		w, _ := claim(t, s)
		require.NotNil(t, w, text)
		now := time.Now().UnixMilli()
		require.NoError(t, s.Logs.AppendLog(ctx, w.Attempt, 1, logline.Encode([]logline.Line{{At: now, Text: text}})))
		reports := []api.StepReport{{State: state.Running, At: now}, {State: to, At: now, LastLine: 1, FirstLine: 1}}
		if to == state.Failed {
			reports[1].ExitCode = &code
		}
		require.NoError(t, s.Work.ReportSteps(ctx, w.Attempt, reports))
		require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: to, At: now, Lines: 1}))
	}
	say("first fails", state.Failed)
	say("first passes", state.Passed)
	say("second passes", state.Passed)
	for _, c := range []struct {
		job     string
		attempt int
		says    string
	}{{"first", 0, "first passes"}, {"first", 1, "first fails"}, {"first", 2, "first passes"}, {"second", 0, "second passes"}} {
		part, err := s.Logs.Log(ctx, "p", run.Number, logs.LogRequest{Job: c.job, Attempt: c.attempt, Limit: 9})
		require.NoError(t, err)
		require.Len(t, part.Lines, 1, "%+v", c)
		assert.Equal(t, c.says, part.Lines[0].Text)
		assert.EqualValues(t, 1, part.Total)
		assert.True(t, part.Complete)
	}
	for job, attempt := range map[string]int{"first": 3, "third": 0} {
		_, err := s.Logs.Log(ctx, "p", run.Number, logs.LogRequest{Job: job, Attempt: attempt, Limit: 9})
		assert.ErrorIs(t, err, ground.ErrNotFound)
	}
	d, err := s.Report.Run(ctx, "p", run.Number)
	require.NoError(t, err)
	assert.Equal(t, state.Passed, d.State)
	assert.Len(t, d.Jobs[0].Attempts, 2)
}

func TestASecretIsTakenBackFromOneAndStaysWithTheOther(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	for _, name := range []string{"almanac", "charts", "depot"} {
		addProject(t, s, name)
	}
	_, err := s.Secrets.SetSecret(ctx, "almanac", "ada", "KEY", textSecret("a value to share"))
	require.NoError(t, err)
	share := func(with ...string) {
		t.Helper()
		_, err := s.Secrets.ChangeSecret(ctx, "almanac", "KEY", api.SecretSettings{Shared: &with})
		require.NoError(t, err)
		for _, name := range []string{"charts", "depot"} {
			list, err := s.Secrets.Secrets(ctx, name, api.Page{})
			require.NoError(t, err)
			assert.Equal(t, slices.Contains(with, name), len(list) == 1, name)
		}
	}
	share("charts", "depot")
	share("depot")
	share("charts")
	share()
	share("depot", "charts")
}

func TestSchedulesComeInTheOrderOfTheirTimes(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{
		"piston/a.toml": "[trigger.schedule.yearly]\ncron = \"0 0 1 1 *\"\n" + step,
		"piston/b.toml": "[trigger.schedule.hourly]\ncron = \"0 * * * *\"\n" + step,
		"piston/c.toml": "[trigger.schedule.monthly]\ncron = \"0 0 1 * *\"\nzone = \"Europe/Lisbon\"\n" + step,
		"piston/d.toml": "[", "piston/e.toml": "[trigger.push]\nbranches = [\"none\"]\n" + step})
	s.pushed(t, "main", plan.NoCommit, here)
	list, err := s.Intake.Schedules(asItself(t), "app")
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, "hourly", list[0].Name)
	assert.Equal(t, "UTC", list[0].Zone)
	assert.True(t, slices.IsSortedFunc(list, func(a, b api.Schedule) int { return a.Next.Compare(b.Next) }))
}
