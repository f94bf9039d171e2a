package service

import (
	"fmt"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/core/timing"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

const tested = `[[job.core.step]]
name = "compile"
script = "make"
[[job.core.step]]
name = "test"
script = "make test"
test_reports = ["out/*.xml"]
`

// course is how a run goes.
type course struct {
	commit  string
	compile int64 // milliseconds; 0 for 100
	test    int64
	ends    state.State // "" for passed
	cases   []api.CaseSeen
	lines   []string // that matter, where it fails
	outside bool
	caches  []api.CacheUse
}

// ran has a run go as told, and returns its number.
func ran(t *testing.T, s *Service, c course) record.RunNumber {
	t.Helper()
	ctx := asItself(t)
	p, err := s.Store.ProjectByName(ctx, "p")
	if err != nil {
		p = addProject(t, s, "p")
	}
	pipeline, findings := definition.Parse("piston/trunk.toml", []byte(tested), nil)
	require.Empty(t, findings)
	if c.commit == "" {
		c.commit = "c0ffee"
	}
	run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Trigger: "push", Branch: "main", Commit: c.commit,
		Subject: "About " + c.commit, Author: "Ines", Outside: c.outside, Queued: time.Now()}
	require.NoError(t, s.Tx(ctx, func(q ground.Q) error { return s.Work.AddRun(ctx, q, &run, pipeline) }))
	goes(t, s, c)
	return run.Number
}

// goes has the job that waits go as told.
func goes(t *testing.T, s *Service, c course) {
	t.Helper()
	ctx := asItself(t)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	at := time.Now().UnixMilli()
	require.NoError(t, s.Work.Prepared(ctx, w.Attempt, api.Prepared{At: at + 20, Caches: c.caches}))
	compile := max(c.compile, 1)
	require.NoError(t, s.Work.ReportSteps(ctx, w.Attempt, []api.StepReport{{Step: 0, State: state.Running, At: at + 20},
		{Step: 0, State: state.Passed, At: at + 20 + compile}, {Step: 1, State: state.Running, At: at + 20 + compile}}))
	if len(c.cases) > 0 {
		_, err := s.History.Ran(ctx, w.Attempt, api.CasesRan{Step: 1, Cases: c.cases})
		require.NoError(t, err)
	}
	if c.ends == "" {
		c.ends = state.Passed
	}
	end := api.StepReport{Step: 1, State: c.ends, At: at + 20 + compile + c.test}
	for i, text := range c.lines {
		end.Excerpt = append(end.Excerpt, logline.Line{N: int64(i + 1), Text: text})
	}
	require.NoError(t, s.Work.ReportSteps(ctx, w.Attempt, []api.StepReport{end}))
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: c.ends, At: end.At + 5, Caches: c.caches}))
}

func TestTimesAreKeptAndSaySinceWhenAStepIsSlower(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	for n := range 12 {
		ran(t, s, course{compile: 400, test: 1000 + int64(n%3)*10, caches: []api.CacheUse{{Name: "deps", Key: "k", Hit: n > 0}}})
	}
	slow := record.RunNumber(0)
	for n := range 6 {
		at := ran(t, s, course{compile: 400, test: 3000 + int64(n%3)*10, commit: "beef"})
		if n == 0 {
			slow = at
		}
	}
	d, err := s.History.Times(ctx, "p", api.TimesFilter{Limit: 100})
	require.NoError(t, err)
	assert.Equal(t, "trunk", d.Pipeline)
	require.Len(t, d.Runs, 18)
	require.Len(t, d.Steps, 2)
	test := d.Steps[0]
	assert.Equal(t, "test", test.Step, "what takes most is first")
	assert.Equal(t, 18, test.Runs)
	require.Len(t, test.Changes, 1)
	assert.Equal(t, slow, test.Changes[0].Run)
	assert.Equal(t, slow-1, test.Changes[0].After)
	assert.InDelta(t, 1010, test.Changes[0].Before, 1)
	assert.InDelta(t, 3010, test.Changes[0].Now, 1)
	assert.Equal(t, "beef", test.Changes[0].Commit)
	assert.Equal(t, []int64{1000, 400}, d.Runs[0].Steps)
	assert.EqualValues(t, 5, d.Runs[0].Wrapped)
	assert.Equal(t, [4]int{0, 1, 1, 0}, [4]int{d.Runs[0].Hits, d.Runs[0].Misses, d.Runs[1].Hits, d.Runs[1].Misses})
	assert.Empty(t, d.Steps[1].Changes)

	one, err := s.History.Step(ctx, "p", api.StepFilter{TimesFilter: api.TimesFilter{Limit: 100}, Job: "core", Step: "test"})
	require.NoError(t, err)
	assert.Len(t, one.Series, 18)
	n := 0
	for _, b := range one.Bars {
		n += b.N
	}
	assert.Equal(t, 18, n, "each run is in one bar")
	require.Len(t, one.What, 1)
	assert.Equal(t, slow-1, one.What[0].Since.Run, "what differs from the run before it")
	_, err = s.History.Step(ctx, "p", api.StepFilter{TimesFilter: api.TimesFilter{Limit: 9}, Job: "core", Step: "no"})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	_, err = s.History.Times(ctx, "p", api.TimesFilter{Pipeline: "no", Limit: 9})
	assert.ErrorIs(t, err, ground.ErrNotFound)

	r, err := s.History.Run(ctx, "p", slow+5)
	require.NoError(t, err)
	require.Len(t, r.Slower, 1)
	assert.Equal(t, api.SlowerStep{Job: "core", Step: "test", Took: 3020, Usual: 1010, SinceRun: slow, Runs: 6, First: slow, Last: slow,
		Since: r.Slower[0].Since}, r.Slower[0])
	var sum int64
	for _, p := range r.Critical {
		sum += p.Took
	}
	assert.GreaterOrEqual(t, sum, int64(3400))
	assert.Equal(t, timing.StepReused, r.Shorter[0].Kind)
	assert.Equal(t, "test", r.Shorter[0].Step)
	before, err := s.History.Run(ctx, "p", slow-1)
	require.NoError(t, err)
	assert.Empty(t, before.Slower)
}

func seen(result testreport.Result, suite, name string, ms int64) api.CaseSeen {
	c := api.CaseSeen{Suite: suite, Name: name, Result: result, TookMs: ms}
	if result == testreport.Failed {
		c.Message = "not so"
	}
	return c
}

func TestCasesHaveAHistory(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	high, low := seen(testreport.Passed, "tide", "high", 10), seen(testreport.Passed, "tide", "low", 20)
	lowFails := seen(testreport.Failed, "tide", "low", 20)
	show := func(what string) (names []string) {
		page, err := s.History.Cases(ctx, "p", api.TestFilter{Show: what, Limit: 10})
		require.NoError(t, err)
		for _, c := range page.Cases {
			names = append(names, c.Name)
		}
		return names
	}
	ran(t, s, course{commit: "a", cases: []api.CaseSeen{high, low}})
	assert.Empty(t, show("failing"))
	assert.Empty(t, show("new"), "all are as old as the history")
	broke := ran(t, s, course{commit: "b", ends: state.Failed, cases: []api.CaseSeen{high, lowFails, lowFails}})
	ran(t, s, course{commit: "c", ends: state.Failed, cases: []api.CaseSeen{high, lowFails, seen(testreport.Passed, "sea", "salt", 1)}})
	assert.Equal(t, []string{"low"}, show("failing"))
	assert.Equal(t, []string{"salt"}, show("new"))
	page, err := s.History.Cases(ctx, "p", api.TestFilter{Show: "all", Contains: "LOW", Limit: 10})
	require.NoError(t, err)
	require.Len(t, page.Cases, 1)
	assert.Equal(t, [4]int{3, 1, 0, 0}, [4]int{page.All, page.Failing, page.Flaky, page.Aside})
	one, err := s.History.Case(ctx, "p", page.Cases[0].ID)
	require.NoError(t, err)
	assert.EqualValues(t, 3, one.Runs)
	assert.EqualValues(t, 2, one.Failures)
	require.NotNil(t, one.Broke)
	assert.Equal(t, broke, one.Broke.Run)
	assert.Equal(t, broke-1, one.Broke.Passed)
	assert.Equal(t, "not so", one.Results[0].Message)

	// The same content again, and it passes: it is flaky. Another content in which it fails makes it none again.
	ran(t, s, course{commit: "c", cases: []api.CaseSeen{high, low}})
	assert.Empty(t, show("failing"))
	assert.Equal(t, []string{"low"}, show("flaky"))
	assert.Equal(t, []string{"salt"}, show("gone"), "the last run that passed did not have it")
	one, err = s.History.Case(ctx, "p", one.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 1, one.Flaky)
	assert.True(t, one.Results[0].Flaky)
	assert.False(t, one.Results[2].Flaky)
	ran(t, s, course{commit: "d", cases: []api.CaseSeen{high, seen(testreport.Passed, "tide", "low", 900)}})
	assert.Equal(t, []string{"low"}, show("slower"))
	assert.Equal(t, "low", show("slow")[0])

	// What a proposal from outside names is nowhere.
	ran(t, s, course{commit: "e", outside: true, cases: []api.CaseSeen{seen(testreport.Failed, "evil", "name", 1)}})
	assert.NotContains(t, show("all"), "name")
}

func TestTellingOfCasesAgainChangesNothing(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	both := []api.CaseSeen{seen(testreport.Passed, "tide", "high", 10), seen(testreport.Failed, "tide", "low", 5)}
	ran(t, s, course{commit: "a", cases: both})
	pipeline, _ := definition.Parse("piston/trunk.toml", []byte(tested), nil)
	p, err := s.Store.ProjectByName(ctx, "p")
	require.NoError(t, err)
	run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Branch: "main", Commit: "b", Queued: time.Now()}
	require.NoError(t, s.Tx(ctx, func(q ground.Q) error { return s.Work.AddRun(ctx, q, &run, pipeline) }))
	w, _ := claim(t, s)
	for range 3 {
		_, err := s.History.Ran(ctx, w.Attempt, api.CasesRan{Step: 1, Cases: both})
		require.NoError(t, err)
	}
	// A report that tells of a case twice, as runners do that try a failed one again.
	_, err = s.History.Ran(ctx, w.Attempt, api.CasesRan{Step: 1, Cases: []api.CaseSeen{seen(testreport.Passed, "tide", "low", 5)}})
	require.NoError(t, err)
	page, err := s.History.Cases(ctx, "p", api.TestFilter{Show: "all", Limit: 10})
	require.NoError(t, err)
	require.Len(t, page.Cases, 2)
	assert.EqualValues(t, 2, page.Cases[0].Runs)
	assert.EqualValues(t, 2, page.Cases[1].Runs)
	assert.EqualValues(t, 2, page.Cases[1].Failures)
	assert.Equal(t, "both", page.Cases[1].Result)
	assert.EqualValues(t, 1, page.Cases[1].Flaky)

	_, err = s.History.Ran(ctx, w.Attempt, api.CasesRan{Step: 0, Cases: both})
	assert.ErrorIs(t, err, ground.ErrForbidden, "the step reports no tests")
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	_, err = s.History.Ran(ctx, w.Attempt, api.CasesRan{Step: 1, Cases: both})
	assert.ErrorIs(t, err, ground.ErrGone)
}

func TestACaseIsSetAsideUntilADay(t *testing.T) {
	s := open(t)
	ctx := ground.WithWho(asItself(t), addPerson(t, s, "ada"))
	fails := []api.CaseSeen{seen(testreport.Failed, "tide", "low", 5)}
	ran(t, s, course{commit: "a", ends: state.Failed, cases: fails})
	page, err := s.History.Cases(ctx, "p", api.TestFilter{Show: "failing", Limit: 10})
	require.NoError(t, err)
	id := page.Cases[0].ID
	for _, in := range []api.NewAside{{Reason: "  ", Until: time.Now().Add(time.Hour)}, {Reason: "late", Until: time.Now()},
		{Reason: "for ever", Until: time.Now().AddDate(2, 0, 0)}} {
		_, err := s.History.SetAside(ctx, "p", id, in)
		assert.ErrorIs(t, err, ground.ErrInvalid, in.Reason)
	}
	c, err := s.History.SetAside(ctx, "p", id, api.NewAside{Reason: "the depot is moved", Until: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	assert.Equal(t, "ada", c.Aside.By)
	goesWith := func() api.CasesNoted {
		pipeline, _ := definition.Parse("piston/trunk.toml", []byte(tested), nil)
		p, err := s.Store.ProjectByName(ctx, "p")
		require.NoError(t, err)
		run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Branch: "main", Commit: "b", Queued: time.Now()}
		require.NoError(t, s.Tx(ctx, func(q ground.Q) error { return s.Work.AddRun(ctx, q, &run, pipeline) }))
		w, _ := claim(t, s)
		noted, err := s.History.Ran(asItself(t), w.Attempt, api.CasesRan{Step: 1, Cases: fails})
		require.NoError(t, err)
		require.NoError(t, s.Work.FinishAttempt(asItself(t), w.Attempt,
			api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
		return noted
	}
	noted := goesWith()
	require.Len(t, noted.Aside, 1)
	assert.Equal(t, "the depot is moved", noted.Aside[0].Reason)
	require.NoError(t, s.History.EndAside(ctx, "p", id))
	assert.ErrorIs(t, s.History.EndAside(ctx, "p", id), ground.ErrNotFound)
	assert.Empty(t, goesWith().Aside)
	_, err = s.History.Case(ctx, "p", 4711)
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

func TestTheSameFailureIsOne(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	says := func(tmp string) []string {
		return []string{"compiling", fmt.Sprintf("/usr/bin/ld: /tmp/%s.o: in function `go': main.c:(.text+0x1f): undefined reference to `tags_of'", tmp)}
	}
	first := ran(t, s, course{commit: "a", ends: state.Failed, lines: says("cc8dk2")})
	d, err := s.Report.Run(ctx, "p", first)
	require.NoError(t, err)
	require.NotNil(t, d.Failure.Cause)
	assert.Equal(t, "undefined-symbol", d.Failure.Cause.Name)
	assert.NotEmpty(t, d.Failure.Cause.Do)
	assert.Nil(t, d.Failure.Seen, "it is new")
	ended := ran(t, s, course{commit: "b"})
	ran(t, s, course{commit: "c", ends: state.Failed, lines: []string{"something nobody knows went wrong"}})
	again := ran(t, s, course{commit: "d", ends: state.Failed, lines: says("ccQQ7")})
	d, err = s.Report.Run(ctx, "p", again)
	require.NoError(t, err)
	require.NotNil(t, d.Failure.Seen)
	assert.Equal(t, 1, d.Failure.Seen.Times)
	assert.Equal(t, first, d.Failure.Seen.LastRun)
	require.NotNil(t, d.Failure.Seen.Gone)
	assert.Equal(t, ended, d.Failure.Seen.Gone.Run)
	assert.Equal(t, "About b", d.Failure.Seen.Gone.Subject)

	page, err := s.Report.Failures(ctx, "p", api.FailureFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, page.Failures, 2)
	assert.Equal(t, 2, page.Failures[0].Times)
	assert.True(t, page.Failures[0].Still, "and it went away before")
	assert.Equal(t, ended, page.Failures[0].Gone.Run)
	assert.Empty(t, page.Failures[1].Cause)
	assert.Equal(t, "something nobody knows went wrong", page.Failures[1].Said)
	few, err := s.Report.Failures(ctx, "p", api.FailureFilter{Contains: "TAGS_OF", Limit: 1})
	require.NoError(t, err)
	assert.Len(t, few.Failures, 1)
	assert.Zero(t, few.Next)
}

func TestATeamsOwnCausesAreReadFromItsRepository(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0", "piston/causes.toml": `[[cause]]
name = "charts-behind"
title = "the charts are behind"
says = ["chart .* has no edition"]
do = "Raise them."
`})
	run, err := s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "trunk", Ref: "main"})
	require.NoError(t, err)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	at := time.Now().UnixMilli()
	require.NoError(t, s.Work.ReportSteps(ctx, w.Attempt, []api.StepReport{{Step: 0, State: state.Running, At: at},
		{Step: 0, State: state.Failed, At: at + 5, Excerpt: []logline.Line{{N: 1, Text: "error: chart skagen has no edition 9"}}}}))
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: state.Failed, At: at + 9}))
	d, err := s.Report.Run(ctx, "app", run.Number)
	require.NoError(t, err)
	require.NotNil(t, d.Failure.Cause)
	assert.Equal(t, "charts-behind", d.Failure.Cause.Name)
	assert.True(t, d.Failure.Cause.Own)
}

func TestAProjectAtAGlance(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	ran(t, s, course{commit: "a"})
	ran(t, s, course{commit: "b", ends: state.Failed, cases: []api.CaseSeen{seen(testreport.Failed, "tide", "low", 5)}})
	addProject(t, s, "empty")
	o, err := s.History.Overview(ctx, "p")
	require.NoError(t, err)
	require.Len(t, o.Pipelines, 1)
	require.Len(t, o.Pipelines[0].Runs, 2)
	assert.EqualValues(t, 1, o.Pipelines[0].Runs[0].Run, "the oldest first")
	require.Len(t, o.Pipelines[0].Branches, 1)
	assert.Equal(t, state.Failed, o.Pipelines[0].Branches[0].State)
	assert.Equal(t, "core › test", o.Pipelines[0].Branches[0].FailedAt)
	assert.Equal(t, 1, o.Failing)
	all, err := s.History.Overviews(ctx, api.Page{Limit: 10})
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Empty(t, all[0].Pipelines)
	ben := addPerson(t, s, "ben")
	none, err := s.History.Overviews(ground.WithWho(t.Context(), ben), api.Page{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, none, "what one may not see is not there")
}

func TestRunsAreSetBackForShowAndSaySo(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	for n := range 5 {
		ran(t, s, course{commit: fmt.Sprint(n), test: 100, cases: []api.CaseSeen{seen(testreport.Passed, "tide", "low", 5)}})
	}
	require.NoError(t, s.History.SetBack(ctx, "p", 14*24*time.Hour))
	d, err := s.History.Times(ctx, "p", api.TimesFilter{Limit: 9})
	require.NoError(t, err)
	assert.True(t, d.SetBack)
	for i, r := range d.Runs {
		if i > 0 {
			assert.True(t, r.At.After(d.Runs[i-1].At), "they keep their order")
		}
		assert.EqualValues(t, 100, r.Steps[0], "and their times")
	}
	assert.Greater(t, time.Since(d.Runs[0].At), 10*24*time.Hour)
	assert.Less(t, time.Since(d.Runs[4].At), time.Hour, "the last stays where it was")
	require.NoError(t, s.History.SetBack(ctx, "p", 14*24*time.Hour), "doing it again is no harm")
}

// Runs side by side tell of the same cases, each in an order of its own, some of them new to all.
func TestManyTellOfTheSameCasesAtOnce(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	addProject(t, s, "p")
	const runs, cases = 6, 400
	steps := []int{1, 3, 7, 9, 11, 399} // each comes by every case once
	pipeline, _ := definition.Parse("piston/trunk.toml", []byte(tested), nil)
	p, err := s.Store.ProjectByName(ctx, "p")
	require.NoError(t, err)
	var attempts []record.AttemptID
	for n := range runs {
		run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Branch: "main", Commit: fmt.Sprint(n),
			Queued: time.Now()}
		require.NoError(t, s.Tx(ctx, func(q ground.Q) error { return s.Work.AddRun(ctx, q, &run, pipeline) }))
	}
	for range runs {
		w, err := workOf(s.Work.Claim(ctx, api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: "r",
			Labels: []string{"linux"}, Slots: runs, WaitMs: 10_000, Recipient: anybody(t)}))
		require.NoError(t, err)
		require.NotNil(t, w)
		attempts = append(attempts, w.Attempt)
	}
	errs := make(chan error, runs)
	for n, attempt := range attempts {
		go func() {
			var list []api.CaseSeen
			for i := range cases {
				list = append(list, seen(testreport.Passed, "tide", fmt.Sprint("case ", (i*steps[n]+n*37)%cases), int64(i)))
			}
			_, err := s.History.Ran(ctx, attempt, api.CasesRan{Step: 1, Cases: list})
			errs <- err
		}()
	}
	for range runs {
		require.NoError(t, <-errs)
	}
	page, err := s.History.Cases(ctx, "p", api.TestFilter{Show: "all", Limit: 500})
	require.NoError(t, err)
	for _, c := range page.Cases {
		assert.EqualValues(t, runs, c.Runs, c.Name)
	}
}

// anybody is a runner's recipient that nobody opens anything for.
func anybody(t *testing.T) string {
	t.Helper()
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	return identity.Recipient().String()
}

func TestAClockThatWasSetBackMakesNoTimeNegative(t *testing.T) {
	s := open(t)
	ran(t, s, course{compile: 100, test: -50_000})
	d, err := s.History.Times(asItself(t), "p", api.TimesFilter{Limit: 9})
	require.NoError(t, err)
	for _, r := range d.Runs {
		for _, ms := range append([]int64{r.Total, r.Waited, r.Prepared, r.Wrapped}, r.Steps...) {
			assert.GreaterOrEqual(t, ms, int64(0))
		}
	}
	of, err := s.History.Run(asItself(t), "p", 1)
	require.NoError(t, err)
	for _, p := range of.Critical {
		assert.Positive(t, p.Took)
	}
	u, err := s.History.Usage(asItself(t), "p", api.UsageFilter{By: "job"})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, u.Used, int64(0))
}
