package service

import (
	"context"
	"fmt"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// asks is a claim of a runner.
func asks(t *testing.T, name string, wait time.Duration) api.ClaimRequest {
	t.Helper()
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	return api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: name, Instance: name, Labels: []string{"linux"}, Slots: 1, WaitMs: int(wait.Milliseconds()), Recipient: identity.Recipient().String()}
}

// asRunner is a context of a runner with a token of its own.
func (s *Service) asRunner(t *testing.T, name string) (context.Context, record.TokenID) {
	t.Helper()
	issued, err := s.People.IssueToken(asItself(t), api.NewToken{Name: name, Kind: api.RunnerToken})
	require.NoError(t, err)
	w, err := s.People.ByToken(asItself(t), issued.Secret)
	require.NoError(t, err)
	return ground.WithWho(asItself(t), w), issued.ID
}

func TestARevokedRunnerIsHandedNothing(t *testing.T) {
	s := open(t)
	ctx, id := s.asRunner(t, "attic")
	answer := make(chan error, 1)
	go func() {
		w, err := workOf(s.Work.Claim(ctx, asks(t, "attic", 20*time.Second)))
		if w != nil {
			err = assert.AnError
		}
		answer <- err
	}()
	require.Eventually(t, func() bool { list, err := s.Work.Runners(asItself(t), api.Page{}); return err == nil && len(list) == 1 }, 10*time.Second, 5*time.Millisecond)
	require.NoError(t, s.People.RevokeToken(asItself(t), id))
	planned(t, s, twoJobs) // the open claim could be answered with this
	s.Stream.Wake(ground.JobsTopic)
	select {
	case err := <-answer:
		assert.ErrorIs(t, err, ground.ErrSignIn)
	case <-time.After(10 * time.Second):
		t.Fatal("the claim of a revoked runner is held open")
	}
	ctx, _ = s.asRunner(t, "cellar")
	w, err := workOf(s.Work.Claim(ctx, asks(t, "cellar", 5*time.Second)))
	require.NoError(t, err)
	require.NotNil(t, w, "another does it")
}

func TestADrainedRunnerFinishesAndIsHandedNoMore(t *testing.T) {
	s := open(t)
	planned(t, s, twoJobs)
	w, err := workOf(s.Work.Claim(asItself(t), asks(t, "attic", 5*time.Second)))
	require.NoError(t, err)
	require.NotNil(t, w)
	_, err = s.Work.HoldRunner(asItself(t), "attic", "new disk")
	require.NoError(t, err)
	planned(t, s, twoJobs)
	none, err := workOf(s.Work.Claim(asItself(t), asks(t, "attic", 300*time.Millisecond)))
	require.NoError(t, err)
	assert.Nil(t, none)
	page, err := s.Work.Queue(asItself(t), work.QueueFilter{Limit: 10})
	require.NoError(t, err)
	require.NotEmpty(t, page.Jobs)
	assert.Contains(t, page.Jobs[0].Why, "it is held: new disk")
	require.NoError(t, s.Work.FinishAttempt(asItself(t), w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}), "what it has it may finish")
	_, err = s.Work.HoldRunner(asItself(t), "attic", "")
	require.NoError(t, err)
	w, err = workOf(s.Work.Claim(asItself(t), asks(t, "attic", 5*time.Second)))
	require.NoError(t, err)
	assert.NotNil(t, w)
	assert.ErrorIs(t, s.Work.ForgetRunner(asItself(t), "attic"), ground.ErrInvalid, "it is there")
	assert.ErrorIs(t, s.Work.ForgetRunner(asItself(t), "nobody"), ground.ErrNotFound)
}

func TestWhatIsHandedBackCountsAsNoTry(t *testing.T) {
	s := open(t)
	run := planned(t, s, twoJobs)
	for range work.MaxAttempts + 2 {
		w, err := workOf(s.Work.Claim(asItself(t), asks(t, "attic", 5*time.Second)))
		require.NoError(t, err)
		require.NotNil(t, w)
		require.NoError(t, s.Work.HandBack(asItself(t), w.Attempt, api.HandBack{Reason: "handed back: runner attic is ending"}))
		require.NoError(t, s.Work.HandBack(asItself(t), w.Attempt, api.HandBack{Reason: "again"}), "the answer to the first may be lost")
	}
	jobs, err := s.Store.Jobs(asItself(t), run.ID)
	require.NoError(t, err)
	for _, j := range jobs {
		all, lost, err := s.Store.Tries(asItself(t), j.ID)
		require.NoError(t, err)
		assert.LessOrEqual(t, all, 1)
		assert.Zero(t, lost)
	}
	w, err := workOf(s.Work.Claim(asItself(t), asks(t, "attic", 5*time.Second)))
	require.NoError(t, err)
	require.NotNil(t, w, "it is still to be done")
	require.NoError(t, s.Work.FinishAttempt(asItself(t), w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
}

func TestANameIsOneRunnersOnly(t *testing.T) {
	s := open(t)
	_, err := workOf(s.Work.Claim(asItself(t), asks(t, "attic", 0)))
	require.NoError(t, err)
	second := asks(t, "attic", 0)
	second.Instance = "another folder"
	_, err = workOf(s.Work.Claim(asItself(t), second))
	assert.ErrorIs(t, err, ground.ErrInvalid)
	assert.ErrorContains(t, err, "--name")
	_, err = workOf(s.Work.Claim(asItself(t), asks(t, "attic", 0)))
	assert.NoError(t, err, "the one that has it goes on")
	for protocol, says := range map[int]string{0: "too old", api.LeastRunnerProtocol - 1: "too old", api.RunnerProtocol + 1: "newer than the service"} {
		odd := asks(t, "odd", 0)
		odd.Protocol = protocol
		_, err = workOf(s.Work.Claim(asItself(t), odd))
		assert.ErrorContains(t, err, says)
	}
}

func TestTheClockOfARunnerIsCorrected(t *testing.T) {
	s := open(t)
	run := planned(t, s, twoJobs)
	slow := asks(t, "attic", 5*time.Second)
	const behind = 10 * time.Minute
	slow.Now = time.Now().Add(-behind).UnixMilli()
	w, err := workOf(s.Work.Claim(asItself(t), slow))
	require.NoError(t, err)
	at := func() int64 { return time.Now().Add(-behind).UnixMilli() }
	require.NoError(t, s.Work.Prepared(asItself(t), w.Attempt, api.Prepared{At: at()}))
	require.NoError(t, s.Work.ReportSteps(asItself(t), w.Attempt, []api.StepReport{{Step: 0, State: state.Running, At: at()}}))
	require.NoError(t, s.Work.FinishAttempt(asItself(t), w.Attempt, api.Finish{State: state.Failed, At: at()}))
	d, err := s.Report.Run(asItself(t), "p", run.Number)
	require.NoError(t, err)
	for _, j := range d.Jobs {
		if j.Claimed != nil {
			assert.WithinDuration(t, *j.Claimed, *j.Prepared, 5*time.Second)
			assert.WithinDuration(t, *j.Claimed, *j.Finished, 5*time.Second)
			assert.Less(t, j.Timing.Total, int64(20_000), "no job takes ten minutes because of a clock")
		}
	}
	list, err := s.Work.Runners(asItself(t), api.Page{})
	require.NoError(t, err)
	assert.InDelta(t, behind.Milliseconds(), list[0].ClockMs, 2000)
}

func TestWhoIsKeptOutLeavesRunnersThatAreNamed(t *testing.T) {
	s := open(t)
	for _, name := range []string{"ada", "grace"} {
		_, err := s.People.AddPerson(asItself(t), api.NewPerson{Name: name, Administrator: true})
		require.NoError(t, err)
	}
	p, err := s.Store.PersonByName(asItself(t), "ada")
	require.NoError(t, err)
	ctx := ground.WithWho(asItself(t), ground.Who{ID: p.ID, Name: "ada", Kind: api.PersonToken, Administrator: true})
	_, err = s.People.IssueToken(ctx, api.NewToken{Name: "mac-mini", Kind: api.RunnerToken})
	require.NoError(t, err)
	list, err := s.People.Tokens(asItself(t), 0, "mac", 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "ada", list[0].MadeBy)
	yes := true
	now, err := s.People.ChangePerson(asItself(t), "ada", api.PersonChange{Disabled: &yes})
	require.NoError(t, err)
	assert.Equal(t, []string{"mac-mini"}, now.RunnerTokens)
}

func TestARunnerIsAskedForToolsThatPipelinesName(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	in := asks(t, "attic", 5*time.Second)
	asked := make(chan api.Claimed, 1)
	go func() {
		c, err := s.Work.Claim(ctx, in)
		assert.NoError(t, err)
		asked <- c
	}()
	asksFor(t, s, "attic")
	planned(t, s, "[job.a]\ntools = { jarsigner = \"*\", gradle = \">=8\" }\n[[job.a.step]]\nscript = \"true\"\n")
	c := <-asked
	assert.Nil(t, c.Work)
	assert.Equal(t, []string{"gradle", "jarsigner"}, c.LookFor, "it is asked while it waits")

	in.WaitMs = 300
	in.Tools, in.Lacks = map[string]string{"jarsigner": ""}, []string{"gradle"}
	c, err := s.Work.Claim(ctx, in)
	require.NoError(t, err)
	assert.Equal(t, api.Claimed{}, c, "it is not asked again")
	page, err := s.Work.Queue(ctx, work.QueueFilter{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, "needs tool gradle >=8: no runner has it", page.Jobs[0].Why)

	in.Tools["gradle"] = ""
	in.Lacks = nil
	c, err = s.Work.Claim(ctx, in)
	require.NoError(t, err)
	assert.Nil(t, c.Work)
	page, err = s.Work.Queue(ctx, work.QueueFilter{Limit: 1})
	require.NoError(t, err)
	assert.Contains(t, page.Jobs[0].Why, "start it with --tool gradle=COMMAND")

	in.Tools["gradle"] = "8.10"
	w, err := workOf(s.Work.Claim(ctx, in))
	require.NoError(t, err)
	assert.NotNil(t, w)
}

func TestWhatARunnerDid(t *testing.T) {
	s := open(t)
	addProject(t, s, "p")
	request := asks(t, "attic", 15*time.Second)
	request.Host = &api.RunnerHost{Load: 1.5, CPUs: 8, Memory: 64, MemoryFree: 32, Disk: 100, DiskFree: 7}
	pipeline, findings := definition.Parse("piston/p.toml", []byte("[[job.a.step]]\nscript = \"x\"\n"), nil)
	require.Empty(t, findings)
	for n, ends := range []state.State{state.Passed, state.Failed, ""} {
		p, err := s.Store.ProjectByName(asItself(t), "p")
		require.NoError(t, err)
		run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "p", Trigger: "push", Branch: "main", Commit: fmt.Sprint(n), Queued: time.Now()}
		require.NoError(t, s.Tx(asItself(t), func(q ground.Q) error { return s.Work.AddRun(asItself(t), q, &run, pipeline) }))
		claimed, err := s.Work.Claim(asItself(t), request)
		require.NoError(t, err)
		require.NotNil(t, claimed.Work)
		if ends != "" {
			require.NoError(t, s.Work.FinishAttempt(asItself(t), claimed.Work.Attempt, api.Finish{State: ends, Reason: "so it is", At: time.Now().UnixMilli() + 40}))
		}
	}
	r, err := s.History.Runner(asItself(t), "attic", api.DidFilter{Limit: 2})
	require.NoError(t, err)
	assert.Equal(t, request.Host, r.Host)
	assert.Equal(t, 1, r.Busy)
	require.Len(t, r.Did, 2)
	assert.Equal(t, []state.State{state.Running, state.Failed}, []state.State{r.Did[0].State, r.Did[1].State})
	assert.GreaterOrEqual(t, r.Did[1].Took, int64(40))
	r, err = s.History.Runner(asItself(t), "attic", api.DidFilter{Limit: 2, Before: r.Did[1].Claimed})
	require.NoError(t, err)
	require.Len(t, r.Did, 1)
	assert.EqualValues(t, 1, r.Did[0].Run)
	stranger := ground.WithWho(t.Context(), addPerson(t, s, "wren"))
	r, err = s.History.Runner(stranger, "attic", api.DidFilter{Limit: 9})
	require.NoError(t, err)
	assert.Empty(t, r.Did, "what others do there is not theirs to know")
	_, err = s.History.Runner(stranger, "cellar", api.DidFilter{Limit: 9})
	assert.ErrorIs(t, err, ground.ErrNotFound)
}
