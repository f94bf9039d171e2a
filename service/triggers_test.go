package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

const step = "[[job.a.step]]\nscript = \"true\"\n"

// pushed reports that a branch now is at a commit.
func (s *Service) pushed(t *testing.T, branch, before, after string) {
	t.Helper()
	s.takeIn(t, "push-"+after+branch, plan.RefUpdate{Ref: "refs/heads/" + branch, Before: before, After: after})
}

func (s *Service) details(t *testing.T, number record.RunNumber) api.RunDetail {
	t.Helper()
	d, err := s.Report.Run(asItself(t), "app", number)
	require.NoError(t, err)
	return d
}

func TestPathsCountFromWhatThePipelineLastSaw(t *testing.T) {
	s, r := openWithRepository(t)
	first := r.commit(map[string]string{"piston/docs.toml": "[trigger.push]\npaths = [\"docs/**\"]\nexcept_paths = [\"docs/old/**\"]\n" + step, "docs/a": "1"})
	s.pushed(t, "main", plan.NoCommit, first)
	require.Len(t, runsOf(t, s), 1, "nothing was seen before, so everything counts as changed")
	second := r.commit(map[string]string{"core/a.c": "x", "docs/old/b": "x"})
	s.pushed(t, "main", first, second)
	require.Len(t, runsOf(t, s), 1)
	// The hook missed a push: what it changed counts with the next one, although that changes no such path itself.
	r.commit(map[string]string{"docs/a": "2"})
	fourth := r.commit(map[string]string{"core/a.c": "y"})
	s.pushed(t, "main", r.git("rev-parse", "HEAD~1"), fourth)
	require.Len(t, runsOf(t, s), 2)
	// A branch counts from where it left the main one.
	r.git("checkout", "-q", "-b", "work/a")
	branch := r.commit(map[string]string{"core/a.c": "z"})
	r.git("checkout", "-q", "main")
	s.pushed(t, "work/a", plan.NoCommit, branch)
	require.Len(t, runsOf(t, s), 2)
	r.git("checkout", "-q", "work/a")
	r.git("commit", "-q", "--amend", "--allow-empty", "-m", "rewritten")
	gone := strings.Repeat("a", 40)
	require.NoError(t, s.Store.SetHead(asItself(t), runsProject(t, s), "docs", "work/a", gone))
	s.pushed(t, "work/a", branch, r.git("rev-parse", "HEAD"))
	require.Len(t, runsOf(t, s), 3, "when history was rewritten everything counts as changed")
}

func runsProject(t *testing.T, s *Service) record.ProjectID {
	t.Helper()
	p, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	return p.ID
}

func TestConditionsSeeWhatChanged(t *testing.T) {
	s, r := openWithRepository(t)
	first := r.commit(map[string]string{"piston/p.toml": "[trigger.push]\n[job.ios]\nwhen = 'changed.within(\"ios/**\")'\n[[job.ios.step]]\nscript = \"true\"\n[job.all]\n[[job.all.step]]\nscript = \"true\"\n", "ios/a": "1"})
	s.pushed(t, "main", plan.NoCommit, first)
	second := r.commit(map[string]string{"android/a": "1"})
	jobs := func(run record.RunNumber) map[string]state.State {
		m := map[string]state.State{}
		for _, j := range s.details(t, run).Jobs {
			m[j.Name] = j.State
		}
		return m
	}
	assert.Equal(t, map[string]state.State{"ios": state.Queued, "all": state.Queued}, jobs(1))
	s.pushed(t, "main", first, second)
	assert.Equal(t, map[string]state.State{"ios": state.Skipped, "all": state.Queued}, jobs(2))
}

func TestCommitsThatStartNothing(t *testing.T) {
	s, r := openWithRepository(t)
	first := r.commit(map[string]string{"piston/p.toml": "[trigger.push]\n" + step})
	r.git("commit", "-q", "--allow-empty", "-m", "Tidy\n\nPiston-Run: no")
	s.pushed(t, "main", first, r.git("rev-parse", "HEAD"))
	assert.Empty(t, runsOf(t, s), "its trailer asks for no run")
	own := r.commit(map[string]string{"VERSION": "2"})
	require.NoError(t, s.Store.AddOwnCommit(asItself(t), runsProject(t, s), own))
	s.pushed(t, "main", first, own)
	assert.Empty(t, runsOf(t, s), "the service made it itself")
	s.pushed(t, "main", own, r.commit(map[string]string{"a": "b"}))
	assert.Len(t, runsOf(t, s), 1)
}

const proposals = "[trigger.push]\n[trigger.proposal]\ninto = [\"main\"]\n[[job.a.step]]\nscript = \"cat a b\"\n[[job.a.step]]\nwhen = \"trusted\"\nscript = \"true\"\nsecrets = [\"KEY\"]\n"

func TestAProposalIsBuiltMerged(t *testing.T) {
	s, r := openWithRepository(t)
	_, err := s.Secrets.SetSecret(asItself(t), "app", "ada", "KEY", api.NewSecret{Kind: api.TextSecret, Value: []byte("long enough")})
	require.NoError(t, err)
	r.commit(map[string]string{"piston/p.toml": proposals, "a": "1", "b": "1"})
	r.git("checkout", "-q", "-b", "feet")
	head := r.commit(map[string]string{"b": "2"})
	r.git("checkout", "-q", "main")
	target := r.commit(map[string]string{"a": "3"})
	s.takeIn(t, "d1", plan.RefUpdate{Ref: "refs/proposals/main/feet", Before: plan.NoCommit, After: head})
	runs := runsOf(t, s)
	require.Len(t, runs, 1)
	assert.Equal(t, "feet", runs[0].Proposal)
	assert.Equal(t, "main", runs[0].Target)
	assert.False(t, runs[0].Outside, "who may push is of the house")
	assert.Equal(t, "3", r.git("show", runs[0].Commit+":a"), "what the target has")
	assert.Equal(t, "2", r.git("show", runs[0].Commit+":b"), "and what the proposal has")
	assert.Equal(t, target+" "+head, r.git("show", "-s", "--format=%P", runs[0].Commit))

	s.takeIn(t, "merge", plan.RefUpdate{Ref: "refs/heads/release", Before: plan.NoCommit, After: runs[0].Commit})
	assert.Len(t, runsOf(t, s), 1, "what the service has made itself starts nothing")
	r.git("checkout", "-q", "feet")
	conflicting := r.commit(map[string]string{"a": "4"})
	s.takeIn(t, "d2", plan.RefUpdate{Ref: "refs/proposals/main/feet", Before: head, After: conflicting})
	d := s.details(t, 2)
	assert.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Reason, "conflicts with its target in a")
}

func TestAnUntrustedProposalNeverGetsASecret(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	_, err := s.Secrets.SetSecret(ctx, "app", "ada", "KEY", api.NewSecret{Kind: api.TextSecret, Value: []byte("long enough")})
	require.NoError(t, err)
	r.commit(map[string]string{"piston/p.toml": proposals, "a": "1", "b": "1"})
	r.git("checkout", "-q", "-b", "fork")
	p, err := s.Store.ProjectByName(ctx, "app")
	require.NoError(t, err)
	propose := func(files map[string]string) {
		t.Helper()
		head := r.commit(files)
		accepted, err := s.Intake.Receive(ctx, p, "proposal-"+head, intake.Spooled{Proposal: &api.ProposalData{Proposal: "7", Target: "main", Commit: head}}, 0)
		require.NoError(t, err)
		s.planEvent(t, ctx, accepted.ID)
	}
	propose(map[string]string{"a": "2"})
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 1 }, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, state.Queued, s.details(t, 1).State)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	assert.Empty(t, w.Secrets)
	assert.Equal(t, "false", w.Env["PISTON_TRUSTED"])
	assert.NotEmpty(t, w.Job.Step[1].Skip, "the step that wants one is skipped")

	// It may write into its pipeline file what it likes.
	propose(map[string]string{"piston/p.toml": strings.Replace(proposals, "when = \"trusted\"\n", "", 1)})
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 2 }, 10*time.Second, 20*time.Millisecond)
	d := s.details(t, 2)
	assert.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Reason, "asks for KEY, and this commit is of a proposal from outside")
	assert.Empty(t, d.Jobs)
}

// What a cache holds may have been had by a secret: a licensed library, say.
func TestWhatASecretHasOpenedReachesNoRunFromOutside(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	_, err := s.Secrets.SetSecret(ctx, "app", "ada", "KEY", textSecret("long enough"))
	require.NoError(t, err)
	r.commit(map[string]string{"piston/with.toml": wantsKey, "piston/plain.toml": "[trigger.push]\n[trigger.proposal]\ninto = [\"main\"]\n" + step})
	started := func(pipeline string) record.AttemptID {
		t.Helper()
		_, err := s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: pipeline})
		require.NoError(t, err)
		w, _ := claim(t, s)
		require.NotNil(t, w)
		return w.Attempt
	}
	save := func(attempt record.AttemptID, key string) {
		t.Helper()
		require.NoError(t, saves(ctx, s, attempt, "c", key, []byte(key)))
	}
	finds := func(attempt record.AttemptID, key string) bool {
		t.Helper()
		found, text, err := restores(ctx, s, attempt, "c", key)
		if err != nil {
			require.ErrorIs(t, err, ground.ErrNotFound)
			return false
		}
		assert.Equal(t, found.Exact, string(text) == key)
		return found.Exact
	}
	save(started("with"), "opened")
	plain := started("plain")
	save(plain, "free")
	assert.True(t, finds(plain, "opened"), "whoever may push may have it")
	save(plain, "made of it")

	p, err := s.Store.ProjectByName(ctx, "app")
	require.NoError(t, err)
	r.git("checkout", "-q", "-b", "fork")
	head := r.commit(map[string]string{"a": "2"})
	accepted, err := s.Intake.Receive(ctx, p, "proposal-"+head, intake.Spooled{Proposal: &api.ProposalData{Proposal: "7", Target: "main", Commit: head}}, 0)
	require.NoError(t, err)
	s.planEvent(t, ctx, accepted.ID)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	assert.True(t, finds(w.Attempt, "free"))
	assert.False(t, finds(w.Attempt, "opened"))
	assert.False(t, finds(w.Attempt, "made of it"), "nor what was made of it")
}

func TestAPipelineThatFollowsAnother(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/first.toml": "[trigger.push]\n" + step, "piston/mend.toml": "[trigger.pipeline.first]\nstates = [\"failed\"]\n" + step,
		"piston/next.toml": "[trigger.pipeline.first]\nbranches = [\"main\"]\n" + step})
	s.pushed(t, "main", plan.NoCommit, here)
	end := func(to state.State) {
		t.Helper()
		w, _ := claim(t, s)
		require.NotNil(t, w)
		require.NoError(t, s.Work.FinishAttempt(asItself(t), w.Attempt, api.Finish{State: to, At: time.Now().UnixMilli()}))
	}
	end(state.Passed)
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 2 }, 10*time.Second, 20*time.Millisecond)
	run := runsOf(t, s)[0]
	assert.Equal(t, "next", run.Pipeline)
	assert.EqualValues(t, 1, run.CausedBy)
	assert.Equal(t, here, run.Commit)
	end(state.Passed)

	_, err := s.Intake.Restart(asItself(t), "app", 1, "ada", api.Restart{})
	require.NoError(t, err)
	end(state.Failed)
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 4 }, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, "mend", runsOf(t, s)[0].Pipeline)
	// Starting again what failed ends the run anew, which counts anew.
	end(state.Passed)
	_, err = s.Intake.Restart(asItself(t), "app", 3, "ada", api.Restart{Failed: true})
	require.NoError(t, err)
	end(state.Passed)
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 5 }, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, "next", runsOf(t, s)[0].Pipeline)
}

// allPlanned waits until no event waits to be planned.
func (s *Service) allPlanned(t *testing.T) {
	t.Helper()
	require.Eventually(t, func() bool { return len(s.pushes(t, store.PushFilter{State: "waiting"})) == 0 }, 20*time.Second,
		10*time.Millisecond)
}

func TestRunsThatStartEachOtherComeToAnEnd(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/a.toml": "[trigger.push]\n[trigger.pipeline.b]\nstates = [\"passed\", \"failed\"]\n" + step, "piston/b.toml": "[trigger.pipeline.a]\nstates = [\"passed\", \"failed\"]\n" + step})
	s.pushed(t, "main", plan.NoCommit, here)
	assert.Equal(t, state.Failed, s.details(t, 1).State, "the check sees the circle")
	for w, _ := claim(t, s); w != nil; w, _ = claimWithin(t, s, 1500*time.Millisecond) {
		require.LessOrEqual(t, len(runsOf(t, s)), intake.MaxDepth+1)
		require.NoError(t, s.Work.FinishAttempt(asItself(t), w.Attempt,
			api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	}
	s.allPlanned(t)
	assert.Len(t, runsOf(t, s), intake.MaxDepth+1, "the first, and as many behind it as may be")
}

func TestSchedulesAreKeptAndMissedOnesTold(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	file := "[trigger.schedule.night]\ncron = \"*/10 * * * *\"\nzone = \"Europe/Lisbon\"\n" + step
	here := r.commit(map[string]string{"piston/nightly.toml": file})
	s.pushed(t, "main", plan.NoCommit, here)
	list, err := s.Intake.Schedules(ctx, "app")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "Europe/Lisbon", list[0].Zone)
	assert.WithinDuration(t, time.Now(), list[0].Next, 10*time.Minute+time.Second)
	assert.Empty(t, runsOf(t, s))

	// The service was away for an hour: one run makes up for it, on however many servers.
	due := store.Schedule{ProjectID: runsProject(t, s), Pipeline: "nightly", Name: "night"}
	past := time.Now().Add(-time.Hour).Truncate(10 * time.Minute)
	require.NoError(t, s.Store.ScheduleDone(ctx, due, past, ""))
	for range 3 {
		require.NoError(t, s.Intake.StartDue(ctx))
	}
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 1 }, 10*time.Second, 20*time.Millisecond)
	d := s.details(t, 1)
	assert.Equal(t, plan.OnSchedule, d.Trigger)
	assert.Equal(t, "night", d.Schedule)
	assert.Equal(t, here, d.Commit)
	require.NotEmpty(t, d.Findings)
	assert.Equal(t, "schedule-missed", d.Findings[len(d.Findings)-1].Code)
	assert.Regexp(t, `[67] times passed`, d.Findings[len(d.Findings)-1].Message)
	list, err = s.Intake.Schedules(ctx, "app")
	require.NoError(t, err)
	assert.True(t, list[0].Next.After(time.Now()))
	assert.EqualValues(t, 1, list[0].LastRun)
	assert.Contains(t, list[0].Note, "missed while the service was away")

	s.pushed(t, "main", here, r.commit(map[string]string{"piston/nightly.toml": "[trigger.push]\nbranches = [\"x\"]\n" + step}))
	list, err = s.Intake.Schedules(ctx, "app")
	require.NoError(t, err)
	assert.Empty(t, list, "the main branch has it no more")
}

func TestInputsAreChecked(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": "[input.channel]\nkind = \"choice\"\nchoices = [\"beta\", \"public\"]\n[input.count]\nkind = \"number\"\nrequired = true\n[job.a]\nwhen = 'input.count > 2.0'\n" + step})
	start := func(in map[string]string) (api.Run, error) {
		return s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "p", Inputs: in})
	}
	for _, bad := range []map[string]string{nil, {"count": "many"}, {"count": "3", "channel": "other"}, {"count": "3", "nothing": "x"}, {"count": strings.Repeat("9", 11<<10)}} {
		_, err := start(bad)
		assert.ErrorIs(t, err, ground.ErrInvalid, "%.50v", bad)
	}
	assert.Empty(t, runsOf(t, s), "what cannot be used makes no run")
	run, err := start(map[string]string{"count": "3"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"count": "3", "channel": "beta"}, run.Inputs)
	w, _ := claim(t, s)
	require.NotNil(t, w, "its condition holds")
	assert.Equal(t, "3", w.Env["PISTON_INPUT_COUNT"])
	again, err := s.Intake.Restart(asItself(t), "app", run.Number, "bea", api.Restart{})
	require.NoError(t, err)
	assert.Equal(t, run.Inputs, again.Inputs, "started again with the same")
	assert.Equal(t, "bea", again.StartedBy)
}

func TestFiveHundredRefsInOnePush(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/p.toml": "[trigger.push]\n" + step})
	var updates []plan.RefUpdate
	for i := range 500 {
		updates = append(updates, plan.RefUpdate{Ref: fmt.Sprintf("refs/heads/work/%d", i), Before: plan.NoCommit, After: here})
	}
	began := time.Now()
	s.takeIn(t, "many", updates...)
	t.Logf("planned in %s", time.Since(began))
	page, err := s.Work.Queue(asItself(t), work.QueueFilter{Limit: 10})
	require.NoError(t, err)
	assert.Len(t, page.Jobs, 10)
	list, err := s.Store.Runs(asItself(t), runsProject(t, s), store.RunFilter{Limit: 1})
	require.NoError(t, err)
	assert.EqualValues(t, 500, list[0].Number)
}

// Pushes that come while others are being planned wait for each other and lose nothing.
func TestPushesPlannedAtTheSameTime(t *testing.T) {
	s, r := openWithRepository(t)
	first := r.commit(map[string]string{"piston/p.toml": "[trigger.push]\npaths = [\"a\"]\n" + step, "piston/q.toml": "[trigger.push]\n" + step, "a": "0"})
	before, p := first, runsProject(t, s)
	project, err := s.Store.ProjectByID(asItself(t), p)
	require.NoError(t, err)
	const pushes = 12
	for i := range pushes {
		after := r.commit(map[string]string{"a": fmt.Sprint(i + 1)})
		_, err := s.Intake.Receive(asItself(t), project, after, intake.Spooled{Push: &api.PushData{Updates: []plan.RefUpdate{{Ref: "refs/heads/main", Before: before, After: after}}}}, 0)
		require.NoError(t, err)
		before = after
	}
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 2*pushes }, 30*time.Second, 50*time.Millisecond)
	open := 0
	for _, run := range runsOf(t, s) {
		if !run.State.Over() {
			open++
		} else {
			assert.Equal(t, state.Cancelled, run.State)
		}
	}
	assert.Equal(t, 2, open, "the latest of each pipeline supersedes the rest")
}

func TestTheSameDeliveryTenTimesAtOnce(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/p.toml": "[trigger.push]\n" + step})
	p, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	answers := make(chan api.PushAccepted, 10)
	for range 10 {
		go func() {
			a, err := s.Intake.Receive(asItself(t), p, "the-same", intake.Spooled{Push: &api.PushData{Updates: []plan.RefUpdate{{Ref: "refs/heads/main", Before: plan.NoCommit, After: here}}}}, 0)
			assert.NoError(t, err)
			answers <- a
		}()
	}
	fresh := 0
	for range 10 {
		if !(<-answers).Repeat {
			fresh++
		}
	}
	assert.Equal(t, 1, fresh)
	s.allPlanned(t)
	assert.Len(t, runsOf(t, s), 1)
}

func TestPipelinesAsTheyStandAndChecksWhileTyping(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": "about = \"x\"\n[trigger.push]\n" + step + "[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nscript = \"true\"\n", "piston/q.toml": "oops = 1\n"})
	list, err := s.Intake.Pipelines(asItself(t), "app", "")
	require.NoError(t, err)
	require.Len(t, list.Pipelines, 2)
	assert.Equal(t, "main", list.Ref)
	assert.Equal(t, []string{"a push to any branch"}, list.Pipelines[0].Triggers)
	assert.Equal(t, []string{"a"}, list.Pipelines[0].Jobs[1].After)
	assert.Equal(t, 5, list.Pipelines[0].Jobs[1].Line)
	assert.Equal(t, "unknown-key", list.Pipelines[1].Findings[0].Code)
	note, err := s.Intake.Check(asItself(t), "app", api.CheckRequest{Name: "new", Text: step + "secrets = [\"NO\"]\n[[job.a.step]]\nscript = \"tools/none\"\n"})
	require.NoError(t, err)
	var found []string
	for _, f := range note.Findings {
		found = append(found, f.Code)
	}
	assert.ElementsMatch(t, []string{"nobody-can", "secret-not-set", "no-file"}, found)
	assert.True(t, definition.HasErrors(note.Findings))
	_, err = s.Intake.Pipelines(asItself(t), "app", "gone")
	assert.ErrorIs(t, err, ground.ErrNotFound)
}
