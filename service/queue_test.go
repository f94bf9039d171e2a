package service

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
)

// A thousand jobs and a hundred runners: every job is done, and none is given twice.
func TestAThousandJobsAndAHundredRunners(t *testing.T) {
	s := open(t)
	const runs, runners = 100, 100
	file := ""
	for i := range 10 {
		file += fmt.Sprintf("[[job.j%d.step]]\nscript = \"true\"\n", i)
	}
	for range runs {
		planned(t, s, file)
	}
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(asItself(t), 2*time.Minute)
	defer cancel()
	var mu sync.Mutex
	given := map[record.AttemptID]int{}
	// A claim may come back empty on a busy machine; a runner asks again until there is nothing left to give.
	left := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(given) < 10*runs && ctx.Err() == nil
	}
	var all sync.WaitGroup
	for n := range runners {
		all.Go(func() {
			for left() {
				w, err := workOf(s.Work.Claim(ctx, api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: fmt.Sprintf("r%d", n), Labels: []string{"linux"}, Slots: 1, WaitMs: 500, Recipient: identity.Recipient().String()}))
				if !assert.NoError(t, err) {
					return
				}
				if w == nil {
					continue
				}
				mu.Lock()
				given[w.Attempt]++
				mu.Unlock()
				time.Sleep(time.Duration(rand.IntN(50)) * time.Millisecond)
				assert.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
			}
		})
	}
	all.Wait()
	assert.Len(t, given, 10*runs)
	for attempt, times := range given {
		assert.Equal(t, 1, times, "attempt %d", attempt)
	}
	page, err := s.Work.Queue(asItself(t), work.QueueFilter{Limit: 10})
	require.NoError(t, err)
	assert.Zero(t, page.Total)
	for n := record.RunNumber(1); n <= runs; n++ {
		d, err := s.Report.Run(asItself(t), "p", n)
		require.NoError(t, err)
		require.Equal(t, state.Passed, d.State, "run %d", n)
	}
}

// queued says what each job of a project waits for.
func queued(t *testing.T, s *Service, project string) map[string]string {
	t.Helper()
	page, err := s.Work.Queue(asItself(t), work.QueueFilter{Project: project, Limit: 100})
	require.NoError(t, err)
	why := map[string]string{}
	for _, j := range page.Jobs {
		why[fmt.Sprintf("%d %s", j.Run, j.Job)] = j.Why
	}
	return why
}

func TestGroupsLimitsAndHolds(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	here := r.commit(map[string]string{"piston/r.toml": "group = \"release\"\n[trigger.tag]\n[[job.build.step]]\nscript = \"true\"\n[job.send]\nafter = [\"build\"]\n[[job.send.step]]\nscript = \"true\"\n",
		"piston/p.toml": "at_once = 1\n[trigger.push]\nbranches = [\"**\"]\n[job.a]\nmachine = [\"linux\", \"huge\"]\n[[job.a.step]]\nscript = \"true\"\n"})
	for _, tag := range []string{"v1", "v2", "v3"} {
		s.takeIn(t, tag, plan.RefUpdate{Ref: "refs/tags/" + tag, Before: plan.NoCommit, After: here})
	}
	finish := func(w *api.Work) {
		t.Helper()
		require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	}
	first, _ := claim(t, s)
	require.NotNil(t, first)
	none := noClaim(t, s)
	assert.Nil(t, none, "the group has one run at work")
	why := queued(t, s, "app")
	assert.Equal(t, "second of 3 behind run 1 in group release", why["2 build"])
	assert.Equal(t, "third of 3 behind run 1 in group release", why["3 build"])
	assert.Equal(t, "second of 3 behind run 1 in group release", s.details(t, 2).Jobs[0].Waiting)
	assert.Equal(t, "comes after build", s.details(t, 1).Jobs[1].Waiting)
	finish(first)
	second, _ := claim(t, s)
	require.NotNil(t, second)
	assert.Equal(t, "send", second.Job.Name, "the run that has begun goes on first")
	assert.EqualValues(t, 1, second.Run)
	finish(second)

	_, err := s.Projects.Hold(ctx, "app", "ada", "the feed is down")
	require.NoError(t, err)
	none = noClaim(t, s)
	assert.Nil(t, none)
	assert.Equal(t, "the project is held: the feed is down", queued(t, s, "app")["2 build"])
	p, err := s.Projects.Hold(ctx, "app", "ada", "")
	require.NoError(t, err)
	assert.Empty(t, p.Held+p.HeldBy)

	s.takeIn(t, "push", plan.RefUpdate{Ref: "refs/heads/main", Before: plan.NoCommit, After: here})
	assert.Equal(t, "needs label huge: no runner has it", queued(t, s, "app")["4 a"])
	assert.Equal(t, "nobody-can", s.details(t, 4).Findings[0].Code, "said before anything is queued")

	_, err = s.Projects.LimitProject(ctx, "app", 1)
	require.NoError(t, err)
	third, _ := claim(t, s)
	require.NotNil(t, third)
	_, err = s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "r", Ref: "main"})
	require.NoError(t, err)
	assert.Contains(t, queued(t, s, "app")["5 build"], "behind run 2 in group release")
}

func TestANewerPushSupersedes(t *testing.T) {
	s, r := openWithRepository(t)
	file := func(how string) string {
		return how + "[trigger.push]\n[[job.a.step]]\nscript = \"true\"\n[[job.b.step]]\nscript = \"true\"\n"
	}
	first := r.commit(map[string]string{"piston/p.toml": file("")})
	s.pushed(t, "main", plan.NoCommit, first)
	second := r.commit(map[string]string{"x": "1"})
	s.pushed(t, "main", first, second)
	assert.Equal(t, state.Cancelled, s.details(t, 1).State)
	assert.Equal(t, "superseded by run 2", s.details(t, 1).Reason)

	w, _ := claim(t, s)
	require.NotNil(t, w)
	third := r.commit(map[string]string{"x": "2"})
	s.pushed(t, "main", second, third)
	assert.Equal(t, state.Running, s.details(t, 2).State, "one that has begun is left alone, unless asked")

	fourth := r.commit(map[string]string{"piston/p.toml": file("supersede = \"running\"\n")})
	s.pushed(t, "main", third, fourth)
	beat, err := s.Work.Beat(asItself(t), w.Attempt)
	require.NoError(t, err)
	assert.True(t, beat.Stop)
	assert.Equal(t, "superseded by run 4", beat.Reason)
	assert.Equal(t, state.Cancelled, beat.State)
	s.pushed(t, "other", plan.NoCommit, fourth)
	assert.Equal(t, state.Queued, s.details(t, 4).State, "another branch is another matter")
}

func TestRetriesByCauseAndStartingAgain(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	run := planned(t, s, "[job.core]\nretry = { times = 1, exit_codes = [75], wait = \"1ms\" }\n[[job.core.step]]\nname = \"fetch\"\nscript = \"x\"\n[job.docs]\n[[job.docs.step]]\nscript = \"x\"\n[job.app]\nafter = [\"core\"]\n[[job.app.step]]\nscript = \"x\"\n")
	end := func(job string, code int) {
		t.Helper()
		w, _ := claim(t, s)
		require.NotNil(t, w)
		require.Equal(t, job, w.Job.Name)
		at, to := time.Now().UnixMilli(), state.Passed
		if code != 0 {
			to = state.Failed
		}
		require.NoError(t, s.Work.ReportSteps(ctx, w.Attempt, []api.StepReport{{State: to, At: at, ExitCode: &code}}))
		require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: to, Reason: fmt.Sprint("exit ", code), At: at}))
	}
	end("core", 75)
	end("docs", 0)
	d, err := s.Report.Run(ctx, "p", run.Number)
	require.NoError(t, err)
	assert.Equal(t, state.Running, d.State, "it is tried again")
	end("core", 75)
	d, err = s.Report.Run(ctx, "p", run.Number)
	require.NoError(t, err)
	assert.Equal(t, state.Failed, d.State, "once more is all")
	require.Len(t, d.Jobs[0].Attempts, 2, "earlier attempts stay readable")

	_, err = s.Intake.Restart(ctx, "p", run.Number, "ada", api.Restart{Failed: true})
	require.NoError(t, err)
	d, err = s.Report.Run(ctx, "p", run.Number)
	require.NoError(t, err)
	assert.False(t, d.State.Over())
	assert.Nil(t, d.Finished)
	end("core", 0)
	end("app", 0)
	d, err = s.Report.Run(ctx, "p", run.Number)
	require.NoError(t, err)
	assert.Equal(t, state.Passed, d.State)
	assert.Empty(t, d.Reason)
	for _, j := range d.Jobs {
		if j.Name == "docs" {
			assert.Len(t, j.Attempts, 1, "what had passed keeps its result")
		}
	}
	_, err = s.Intake.Restart(ctx, "p", run.Number, "ada", api.Restart{Failed: true})
	assert.ErrorIs(t, err, ground.ErrInvalid)
}

func TestARunsLimit(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	run := planned(t, s, "limit = \"300ms\"\n[[job.a.step]]\nscript = \"x\"\n[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nscript = \"x\"\n")
	w, _ := claim(t, s)
	require.NotNil(t, w)
	var beat api.Beat
	require.Eventually(t, func() bool {
		var err error
		beat, err = s.Work.Beat(ctx, w.Attempt)
		return err == nil && beat.Stop
	}, 10*time.Second, 10*time.Millisecond)
	assert.Equal(t, state.TimedOut, beat.State)
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: beat.State, Reason: beat.Reason, At: time.Now().UnixMilli()}))
	d, err := s.Report.Run(ctx, "p", run.Number)
	require.NoError(t, err)
	assert.Equal(t, state.TimedOut, d.State)
	assert.Contains(t, d.Reason, "the run's limit of 300ms is over")
}

func TestWhatHasChangedSinceItLastPassed(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	set := func(value string) {
		_, err := s.Secrets.SetSecret(ctx, "app", "ada", "KEY", api.NewSecret{Kind: api.TextSecret, Value: []byte(value)})
		require.NoError(t, err)
	}
	set("the first value")
	file := "[trigger.push]\n[job.a]\ntools = { clang = \">=14\" }\n[[job.a.step]]\nscript = \"true\"\nsecrets = [\"KEY\"]\n"
	first := r.commit(map[string]string{"piston/p.toml": file})
	end := func(to state.State, clang, key string) {
		t.Helper()
		identity, err := age.GenerateX25519Identity()
		require.NoError(t, err)
		w, err := workOf(s.Work.Claim(ctx, api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: "attic", Labels: []string{"linux"}, Tools: map[string]string{"clang": clang}, Slots: 1, WaitMs: 1500, Recipient: identity.Recipient().String()}))
		require.NoError(t, err)
		require.NotNil(t, w)
		require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: to, At: time.Now().UnixMilli(), Caches: []api.CacheUse{{Name: "c", Key: key}}}))
	}
	s.pushed(t, "main", plan.NoCommit, first)
	d, err := s.Report.Since(ctx, "app", 1)
	require.NoError(t, err)
	assert.Zero(t, d.Run)
	end(state.Passed, "14.0.6", "k1")

	set("the second value")
	second := r.commit(map[string]string{"piston/p.toml": file + "env = { MODE = \"fast\" }\n"})
	s.pushed(t, "main", first, second)
	end(state.Failed, "15.0.1", "k2")
	d, err = s.Report.Since(ctx, "app", 2)
	require.NoError(t, err)
	assert.EqualValues(t, 1, d.Run)
	require.Len(t, d.Commits, 1)
	assert.Equal(t, second, d.Commits[0].ID)
	assert.Equal(t, []api.Difference{{What: "job.a.step[0].env.MODE", After: "fast"}}, d.Definition)
	assert.Equal(t, []api.Difference{{What: "a: clang", Before: "14.0.6", After: "15.0.1"}}, d.Tools)
	assert.Equal(t, []api.Difference{{What: "a: c", Before: "k1", After: "k2"}}, d.Caches)
	assert.Equal(t, []api.Difference{{What: "KEY", Before: "revision 1", After: "revision 2"}}, d.Secrets)
	assert.Empty(t, d.Runners)
	assert.Equal(t, map[string]string{"clang": "15.0.1"}, s.details(t, 2).Jobs[0].Tools)
}
