package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

const searched = `[trigger.push]
branches = ["main"]
[job.lint]
[[job.lint.step]]
script = "true"
[job.core]
after = ["lint"]
when = 'trigger == "push"'
[[job.core.step]]
name = "compile"
script = "true"
[[job.core.step]]
name = "test"
script = "true"
test_reports = ["out/*.xml"]
[job.core.keep.app]
files = ["out/app"]
[job.out]
after = ["core"]
[[job.out.step]]
raise = { app = "a", by = "patch" }
[[job.out.step]]
script = "true"
`

const anApp = "[app.a]\nandroid = \"example.tidewick.a\"\n"

// line is a branch: a run of its first commit passed, one of its last failed.
type line struct {
	s       *Service
	r       repository
	dsn     string
	commits []string
	good    record.RunNumber
	bad     record.RunNumber
}

// historyOf makes one of so many changes; change makes the files of each.
func historyOf(t *testing.T, n int, change func(i int) map[string]string) line {
	t.Helper()
	s, r, dsn := openWithRepositoryOn(t)
	h := line{s: s, r: r, dsn: dsn}
	first := r.commit(map[string]string{"piston/trunk.toml": searched, "piston/app.toml": anApp, "core.c": "0"})
	s.pushed(t, "main", plan.NoCommit, first)
	h.good = runsOf(t, s)[0].Number
	h.answers(t, "lint", state.Passed)
	h.answers(t, "core", state.Passed)
	h.answers(t, "out", state.Passed)
	last := first
	for i := range n {
		last = r.commit(change(i))
		h.commits = append(h.commits, last)
	}
	s.pushed(t, "main", first, last)
	h.bad = runsOf(t, s)[0].Number
	require.NotEqual(t, h.good, h.bad)
	h.answers(t, "lint", state.Passed)
	h.answers(t, "core", state.Failed)
	return h
}

func plainChange(i int) map[string]string { return map[string]string{"core.c": fmt.Sprint(i + 1)} }

// answers claims the job that waits, which must be the one of a name, and ends it so. It gives its commit.
func (h line) answers(t *testing.T, job string, to state.State, lines ...string) string {
	t.Helper()
	ctx := asItself(t)
	w, _ := claim(t, h.s)
	require.NotNil(t, w)
	require.Equal(t, job, w.Job.Name)
	at := time.Now().UnixMilli()
	require.NoError(t, h.s.Work.Prepared(ctx, w.Attempt, api.Prepared{At: at}))
	last := len(w.Job.Step) - 1
	if job == "core" {
		result := map[bool]testreport.Result{true: testreport.Passed, false: testreport.Failed}[to == state.Passed]
		_, err := h.s.History.Ran(ctx, w.Attempt, api.CasesRan{Step: last, Cases: []api.CaseSeen{seen(result, "tide", "rises", 3)}})
		require.NoError(t, err)
	}
	var list []api.StepReport
	for i := range last {
		list = append(list, api.StepReport{Step: i, State: state.Running, At: at}, api.StepReport{Step: i, State: state.Passed, At: at})
	}
	end := api.StepReport{Step: last, State: to, At: at}
	if len(lines) == 0 && to == state.Failed {
		lines = []string{"core.c:7: error: 'harbour' undeclared"}
	}
	for i, text := range lines {
		end.Excerpt = append(end.Excerpt, logline.Line{N: int64(i + 1), Text: text})
	}
	list = append(list, api.StepReport{Step: last, State: state.Running, At: at}, end)
	require.NoError(t, h.s.Work.ReportSteps(ctx, w.Attempt, list))
	require.NoError(t, h.s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: to, At: at}))
	return w.Commit
}

func TestTheFirstBadChangeIsFound(t *testing.T) {
	h := historyOf(t, 9, plainChange)
	s, ctx := h.s, asItself(t)
	wasCase, err := s.History.Cases(ctx, "app", api.TestFilter{Show: "all", Limit: 9})
	require.NoError(t, err)
	wasFailures, err := s.Report.Failures(ctx, "app", api.FailureFilter{Limit: 9})
	require.NoError(t, err)
	last, err := s.Store.LastBuild(ctx, runsProject(t, s))
	require.NoError(t, err)
	before := s.details(t, h.bad)

	const blame = 5
	ada := ground.WithWho(ctx, addPerson(t, s, "ada"))
	b := h.search(t, ada, api.NewBisection{}, func(i int) (state.State, []string) {
		_, err := s.Bisect.Begin(ctx, "app", h.bad, api.NewBisection{Job: "core"})
		require.ErrorIs(t, err, ground.ErrExists, "it is looked for already")
		if i < blame {
			return state.Passed, nil
		}
		return state.Failed, []string{"core.c:9: error: 'harbour' undeclared"}
	})
	assert.Equal(t, []any{"core", h.good, 9, "ada"}, []any{b.Job, b.Good, b.Among, b.By})
	assert.Equal(t, api.BisectionFound, b.State)
	require.Len(t, b.Suspects, 1)
	assert.Equal(t, h.commits[blame], b.Suspects[0].ID)
	assert.Equal(t, 1, b.Left)
	assert.LessOrEqual(t, len(b.Tries), 5)

	// A try is a run of the one job, and no part of anything else.
	try := s.details(t, b.Tries[0].Run)
	require.Len(t, try.Jobs, 1)
	assert.Equal(t, "core", try.Jobs[0].Name)
	assert.Equal(t, plan.ByBisection, try.Trigger)
	assert.Equal(t, h.bad, try.CausedBy)
	assert.True(t, try.Outside, "nobody may have looked at it")
	assert.Equal(t, before.BuildNumber, try.BuildNumber)
	now, err := s.Store.LastBuild(ctx, runsProject(t, s))
	require.NoError(t, err)
	assert.Equal(t, last, now, "no number was used up")
	isCase, err := s.History.Cases(ctx, "app", api.TestFilter{Show: "all", Limit: 9})
	require.NoError(t, err)
	assert.Equal(t, wasCase, isCase)
	isFailures, err := s.Report.Failures(ctx, "app", api.FailureFilter{Limit: 9})
	require.NoError(t, err)
	assert.Equal(t, wasFailures, isFailures)
	since, err := s.Report.Since(ctx, "app", h.bad)
	require.NoError(t, err)
	assert.Equal(t, h.good, since.Run)
	_, err = s.Bisect.Begin(ctx, "app", b.Tries[0].Run, api.NewBisection{})
	require.ErrorIs(t, err, ground.ErrInvalid, "a try is not searched itself")
	for _, failed := range []bool{true, false} {
		_, err = s.Intake.Restart(ctx, "app", b.Tries[0].Run, "ada", api.Restart{Failed: failed})
		require.ErrorIs(t, err, ground.ErrInvalid, "nor started again")
		assert.Contains(t, err.Error(), fmt.Sprintf("piston bisect app %d --anew", h.bad))
	}
	feed, err := s.Notify.Feed(ada, "app", false)
	require.NoError(t, err)
	text, err := s.Notify.Atom(ctx, strings.Split(feed.Badge, "/")[2])
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(string(text), "<entry>"), "%s", text)
	project, err := s.Projects.Project(ctx, "app")
	require.NoError(t, err)
	assert.Equal(t, h.bad, project.Latest.Number)
	assert.Contains(t, acts(t, s), "bisection.begin")
}

// waits waits for a try to be at work, or for the end of the search, and gives the search and the commit that is tried.
func (h line) waits(t *testing.T) (b api.Bisection, commit string) {
	t.Helper()
	require.Eventually(t, func() bool {
		list, err := h.s.Bisect.Of(asItself(t), "app", h.bad)
		require.NoError(t, err)
		if len(list) == 0 {
			return false // its pipeline is about to ask for it
		}
		b = list[0]
		if n := len(b.Tries); n > 0 && b.Tries[n-1].Verdict == "" {
			run, err := h.s.Store.RunByNumber(asItself(t), "app", b.Tries[n-1].Run)
			require.NoError(t, err)
			if !run.State.Over() {
				commit = run.Commit
			}
		}
		return b.Ended != nil || commit != ""
	}, 20*time.Second, 20*time.Millisecond)
	return b, commit
}

// search answers each try as told until the search is over.
func (h line) search(t *testing.T, ctx context.Context, in api.NewBisection,
	how func(i int) (state.State, []string)) api.Bisection {
	t.Helper()
	_, err := h.s.Bisect.Begin(ctx, "app", h.bad, in)
	require.NoError(t, err)
	for {
		b, commit := h.waits(t)
		if b.Ended != nil {
			return b
		}
		to, lines := how(slices.Index(h.commits, commit))
		require.Equal(t, commit, h.answers(t, "core", to, lines...))
	}
}

// What cannot be tried, or fails otherwise, is gone around and said.
func TestChangesThatCannotBeJudged(t *testing.T) {
	h := historyOf(t, 7, func(i int) map[string]string {
		files := plainChange(i)
		switch i {
		case 2:
			files["piston/trunk.toml"] = "junk ["
		case 3:
			files["piston/trunk.toml"] = strings.ReplaceAll(searched, "core", "kernel")
		case 4:
			files["piston/trunk.toml"] = searched
		}
		return files
	})
	b := h.search(t, asItself(t), api.NewBisection{}, func(i int) (state.State, []string) {
		switch {
		case i == 4:
			return state.Failed, []string{"collect: ld returned 1 exit status: no space left on device"}
		case i < 5:
			return state.Passed, nil
		}
		return state.Failed, nil
	})
	assert.Equal(t, api.BisectionUnclear, b.State)
	require.Len(t, b.Suspects, 4, "from the third on: they could not be tried, or failed otherwise")
	assert.Equal(t, h.commits[2], b.Suspects[0].ID)
	assert.Equal(t, h.commits[5], b.Suspects[3].ID)
	why := map[string]string{}
	for _, try := range b.Tries {
		why[try.ID] = try.Why
	}
	assert.Contains(t, why[h.commits[2]], "pipeline file is wrong")
	assert.Contains(t, why[h.commits[3]], "no job core")
	assert.Contains(t, why[h.commits[4]], "another way")
}

// What fails by chance is laid at nobody's door.
func TestAFailureByChanceIsSaidToBeOne(t *testing.T) {
	h := historyOf(t, 1, plainChange)
	b := h.search(t, asItself(t), api.NewBisection{Job: "core"}, func(int) (state.State, []string) { return state.Passed, nil })
	assert.Equal(t, api.BisectionChance, b.State)
	assert.Empty(t, b.Suspects)
	require.Len(t, b.Tries, 1)
	assert.Equal(t, h.commits[0], b.Tries[0].ID)
	// Once it is over it can be looked for anew.
	b = h.search(t, asItself(t), api.NewBisection{}, func(int) (state.State, []string) { return state.Failed, nil })
	assert.Equal(t, api.BisectionFound, b.State)
}

// What a change brought, and the next took away again, was looked at by nobody: it is given no secret.
func TestATryIsGivenNoSecret(t *testing.T) {
	asks := strings.Replace(searched, "name = \"compile\"", "name = \"compile\"\nsecrets = [\"KEY\"]", 1)
	h := historyOf(t, 5, func(i int) map[string]string {
		files := plainChange(i)
		files["piston/trunk.toml"] = map[bool]string{true: asks, false: searched}[i == 2]
		return files
	})
	_, err := h.s.Secrets.SetSecret(asItself(t), "app", "ada", "KEY", textSecret("a value that is long"))
	require.NoError(t, err)
	b := h.search(t, asItself(t), api.NewBisection{}, func(i int) (state.State, []string) {
		if i < 3 {
			return state.Passed, nil
		}
		return state.Failed, nil
	})
	at := slices.IndexFunc(b.Tries, func(t api.BisectionTry) bool { return t.ID == h.commits[2] })
	require.GreaterOrEqual(t, at, 0)
	assert.Contains(t, b.Tries[at].Why, "asks for KEY, and a commit that is only tried is given none")
	assert.Zero(t, b.Tries[at].Run)
	// A job that needs them is not searched at all.
	last := h.r.commit(map[string]string{"piston/trunk.toml": asks})
	h.s.pushed(t, "main", h.commits[4], last)
	number := runsOf(t, h.s)[0].Number
	h.answers(t, "lint", state.Passed)
	h.answers(t, "core", state.Failed)
	_, err = h.s.Bisect.Begin(asItself(t), "app", number, api.NewBisection{})
	require.ErrorIs(t, err, ground.ErrInvalid)
	assert.Contains(t, err.Error(), "is given none")
}

// A commit that is no longer there is no fault of the service's.
func TestNoWayFromACommitThatIsGone(t *testing.T) {
	h := historyOf(t, 2, plainChange)
	alter(t, h.dsn, "UPDATE runs SET commit_id = '"+strings.Repeat("ab", 20)+"' WHERE state = 'passed'")
	_, err := h.s.Bisect.Begin(asItself(t), "app", h.bad, api.NewBisection{})
	require.ErrorIs(t, err, ground.ErrInvalid)
	assert.Contains(t, err.Error(), "does not go on from")
}

func TestASearchIsStopped(t *testing.T) {
	h := historyOf(t, 5, plainChange)
	ctx := ground.WithWho(asItself(t), addPerson(t, h.s, "ada"))
	require.ErrorIs(t, h.s.Bisect.Stop(ctx, "app", h.bad, "core"), ground.ErrNotFound)
	_, err := h.s.Bisect.Begin(ctx, "app", h.bad, api.NewBisection{})
	require.NoError(t, err)
	h.waits(t)
	require.NoError(t, h.s.Bisect.Stop(ctx, "app", h.bad, "core"))
	b, _ := h.waits(t)
	assert.Equal(t, api.BisectionStopped, b.State)
	assert.Equal(t, "stopped by ada", b.Why)
	assert.Equal(t, 5, b.Left)
	assert.Equal(t, state.Cancelled, h.s.details(t, b.Tries[0].Run).State)
	require.ErrorIs(t, h.s.Bisect.Stop(ctx, "app", h.bad, "core"), ground.ErrNotFound)
	assert.Nil(t, noClaim(t, h.s))
}

// Two people ask in the same moment, and again when it is over: there is one search.
func TestTwoWhoSearchTheSameHaveOneSearch(t *testing.T) {
	h := historyOf(t, 3, plainChange)
	ctx := asItself(t)
	begin := func() error {
		_, err := h.s.Bisect.Begin(ctx, "app", h.bad, api.NewBisection{})
		return err
	}
	for range 2 {
		begun := 0
		for _, errs := range together(1, begin, begin, begin) {
			for _, err := range errs {
				if err == nil {
					begun++
				} else {
					require.ErrorIs(t, err, ground.ErrExists)
				}
			}
		}
		assert.Equal(t, 1, begun)
		b, _ := h.waits(t)
		require.Len(t, b.Tries, 1)
		require.NoError(t, h.s.Bisect.Stop(ctx, "app", h.bad, "core"))
	}
	// What is told twice, or late, is done once.
	_, err := h.s.Bisect.Begin(ctx, "app", h.bad, api.NewBisection{})
	require.NoError(t, err)
	list, err := h.s.Store.Bisections(ctx, runOf(t, h.s, h.bad).ID)
	require.NoError(t, err)
	require.NoError(t, h.s.Tx(ctx, func(q ground.Q) error {
		for range 8 {
			if err := q.PutOff(ctx, work.TryOver{Bisection: list[0].ID}); err != nil {
				return err
			}
		}
		return nil
	}))
	_, commit := h.waits(t)
	require.Equal(t, commit, h.answers(t, "core", state.Failed))
	b, _ := h.waits(t)
	require.Equal(t, api.BisectionFound, b.State)
	assert.Equal(t, h.commits[0], b.Suspects[0].ID)
	assert.Len(t, b.Tries, 1)
}

func runOf(t *testing.T, s *Service, n record.RunNumber) store.Run {
	t.Helper()
	run, err := s.Store.RunByNumber(asItself(t), "app", n)
	require.NoError(t, err)
	return run
}

// A try is for machines that nobody else wants.
func TestATryLetsEverybodyElseGoFirst(t *testing.T) {
	h := historyOf(t, 3, plainChange)
	_, err := h.s.Bisect.Begin(asItself(t), "app", h.bad, api.NewBisection{})
	require.NoError(t, err)
	h.waits(t)
	low := strings.Replace(searched, "[trigger.push]", "priority = -100\n[trigger.push]", 1)
	last := h.r.commit(map[string]string{"piston/trunk.toml": low})
	h.s.pushed(t, "main", h.commits[2], last)
	assert.Equal(t, last, h.answers(t, "lint", state.Passed))
	assert.Equal(t, last, h.answers(t, "core", state.Passed))
}

// What is refused is refused before anything is done.
func TestWhatIsNotSearched(t *testing.T) {
	h := historyOf(t, 2, plainChange)
	s, ctx := h.s, asItself(t)
	refused := func(n record.RunNumber, job, says string, want error) {
		t.Helper()
		_, err := s.Bisect.Begin(ctx, "app", n, api.NewBisection{Job: job})
		require.ErrorIs(t, err, want)
		assert.Contains(t, err.Error(), says)
	}
	refused(h.good, "", "no job of run 1 has failed", ground.ErrInvalid)
	refused(h.good, "core", "has not failed", ground.ErrInvalid)
	refused(h.bad, "nobody", "nobody", ground.ErrNotFound)
	refused(h.bad, "out", "has not failed", ground.ErrInvalid)
	refused(99, "", "99", ground.ErrNotFound)
	// History that was rewritten leads from nothing to nothing.
	h.r.git("checkout", "-q", "--orphan", "fresh")
	fresh := h.r.commit(map[string]string{"core.c": "x"})
	h.r.git("branch", "-f", "main", fresh)
	s.pushed(t, "main", h.commits[1], fresh)
	h.answers(t, "lint", state.Passed)
	h.answers(t, "core", state.Failed)
	refused(runsOf(t, s)[0].Number, "", "does not go on from", ground.ErrInvalid)
	list, err := s.Bisect.Of(ctx, "app", h.bad)
	require.NoError(t, err)
	assert.Empty(t, list)
}

// A job that would be seen outside is run by no search.
func TestASearchDoesNothingThatIsSeenOutside(t *testing.T) {
	h := historyOf(t, 2, plainChange)
	last := h.r.commit(map[string]string{"core.c": "y"})
	h.s.pushed(t, "main", h.commits[1], last)
	h.answers(t, "lint", state.Passed)
	h.answers(t, "core", state.Passed)
	h.answers(t, "out", state.Failed)
	_, err := h.s.Bisect.Begin(asItself(t), "app", runsOf(t, h.s)[0].Number, api.NewBisection{})
	require.ErrorIs(t, err, ground.ErrInvalid)
	assert.Contains(t, err.Error(), "raise")
	assert.ErrorIs(t, err, plan.ErrActs)
}

// A pipeline has it looked for by itself, with the run that broke, and not with each that fails after it.
func TestAPipelineHasItLookedFor(t *testing.T) {
	h := historyOf(t, 4, func(i int) map[string]string {
		files := plainChange(i)
		files["piston/trunk.toml"] = "bisect = true\n" + searched
		return files
	})
	b, _ := h.waits(t)
	assert.Empty(t, b.By)
	assert.Equal(t, "core", b.Job)
	last := h.r.commit(map[string]string{"core.c": "y"})
	h.s.pushed(t, "main", h.commits[3], last)
	number := runsOf(t, h.s)[0].Number
	h.answers(t, "lint", state.Passed)
	h.answers(t, "core", state.Failed)
	require.Never(t, func() bool {
		list, err := h.s.Bisect.Of(asItself(t), "app", number)
		return err != nil || len(list) > 0
	}, 3*time.Second, 100*time.Millisecond)
}

// Where only one change lies between, it is plain what a search would find.
func TestAPipelineHasNothingSearchedThatIsPlain(t *testing.T) {
	h := historyOf(t, 1, func(i int) map[string]string {
		files := plainChange(i)
		files["piston/trunk.toml"] = "bisect = true\n" + searched
		return files
	})
	require.Never(t, func() bool {
		list, err := h.s.Bisect.Of(asItself(t), "app", h.bad)
		return err != nil || len(list) > 0
	}, 3*time.Second, 100*time.Millisecond)
}

// Whatever statement fails, a search has begun whole or not at all.
func TestABeginningSearchWhoseRecordsFail(t *testing.T) {
	s, db := openFailing(t)
	r := addRepository(t, s)
	h := line{s: s, r: r}
	first := r.commit(map[string]string{"piston/trunk.toml": searched, "piston/app.toml": anApp})
	s.pushed(t, "main", plan.NoCommit, first)
	for _, job := range []string{"lint", "core", "out"} {
		h.answers(t, job, state.Passed)
	}
	last := r.commit(map[string]string{"core.c": "1"})
	s.pushed(t, "main", first, last)
	h.bad = runsOf(t, s)[0].Number
	h.answers(t, "lint", state.Passed)
	h.answers(t, "core", state.Failed)
	eachStatement(t, db, "begin a search", func(ctx context.Context) error {
		_, err := s.Bisect.Begin(ctx, "app", h.bad, api.NewBisection{})
		return err
	})
	h.waits(t)
	eachStatement(t, db, "read it", func(ctx context.Context) error {
		_, err := s.Bisect.Of(ctx, "app", h.bad)
		return err
	})
}
