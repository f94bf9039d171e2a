package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
	"gentlepiston.example/piston/token"
	"gentlepiston.example/piston/token/softtoken"
)

func TestMain(m *testing.M) {
	if dsn := os.Getenv(raiserDSN); dsn != "" {
		if err := beRaiser(dsn); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	testdb.Main(m, store.Prepare)
}

func open(t *testing.T) *Service {
	t.Helper()
	s, _ := openOn(t)
	return s
}

// folders are the blobs of services.
var folders sync.Map

func blobsOf(t *testing.T, s *Service) *blob.Blobs {
	t.Helper()
	blobs, ok := folders.Load(s)
	require.True(t, ok)
	return blobs.(*blob.Blobs)
}

// openOn opens a service and tells where its records are.
func openOn(t *testing.T) (s *Service, dsn string) {
	t.Helper()
	dsn = testdb.New(t)
	return openAt(t, dsn), dsn
}

// openAt opens a service on the records at an address.
func openAt(t *testing.T, dsn string) *Service {
	t.Helper()
	return openIn(t, dsn, t.TempDir())
}

// openIn opens one in a data folder, beside another when that has one there.
func openIn(t *testing.T, dsn, home string) *Service {
	t.Helper()
	return openWith(t, dsn, Options{Home: home})
}

// openWith opens one that is told more.
func openWith(t *testing.T, dsn string, o Options) *Service {
	t.Helper()
	st, err := store.Open(asItself(t), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	sm, err := stream.Open(asItself(t), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(sm.Close)
	blobs, err := blob.OpenFolder(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { blobs.Close() })
	o.Master, o.Log = vault.FindMaster(func(string) string { return "" }, MasterFile(o.Home)), slog.New(slog.DiscardHandler)
	o.Tokens = token.New(softtoken.Library) // it is loaded when a key in it is asked for
	s, err := Open(asItself(t), st, sm, blobs, o)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	folders.Store(s, blobs)
	return s
}

// planned adds a run of a pipeline to a project, as planning a push does.
func planned(t *testing.T, s *Service, file string) store.Run {
	t.Helper()
	ctx := asItself(t)
	p, err := s.Store.ProjectByName(ctx, "p")
	if err != nil {
		p = addProject(t, s, "p")
	}
	pipeline, findings := definition.Parse("piston/trunk.toml", []byte(file), nil)
	require.Empty(t, findings)
	run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Trigger: "push", Branch: "main", Commit: "c0ffee", Queued: time.Now()}
	require.NoError(t, s.Tx(ctx, func(q ground.Q) error { return s.Work.AddRun(ctx, q, &run, pipeline) }))
	return run
}

const twoJobs = "env = { A = \"1\" }\n[[job.core.step]]\nname = \"test\"\nscript = \"make\"\nsecrets = [\"KEY\"]\n[[job.core.step]]\nscript = \"true\"\n[job.app]\nafter = [\"core\"]\n[[job.app.step]]\nscript = \"true\"\n"

// workOf is what a claim brought.
func workOf(c api.Claimed, err error) (*api.Work, error) { return c.Work, err }

// asItself is the context of a test that acts as the service itself.
func asItself(t *testing.T) context.Context { return ground.AsItself(t.Context()) }

func claim(t *testing.T, s *Service) (*api.Work, *age.X25519Identity) {
	t.Helper()
	return claimWithin(t, s, 15*time.Second)
}

// noClaim asks for work where there should be none.
func noClaim(t *testing.T, s *Service) *api.Work {
	t.Helper()
	w, _ := claimWithin(t, s, 1500*time.Millisecond)
	return w
}

func claimWithin(t *testing.T, s *Service, wait time.Duration) (*api.Work, *age.X25519Identity) {
	t.Helper()
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	w, err := workOf(s.Work.Claim(asItself(t), api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: "r", Labels: []string{"linux"}, Slots: 1,
		WaitMs: int(wait.Milliseconds()), Recipient: identity.Recipient().String()}))
	require.NoError(t, err)
	return w, identity
}

func TestARunFromClaimToEnd(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	run := planned(t, s, twoJobs)
	_, err := s.Secrets.SetSecret(ctx, "p", "ada", "KEY", api.NewSecret{Kind: api.TextSecret, Value: []byte("the secret value")})
	require.NoError(t, err)
	_, err = s.Secrets.SetSecret(ctx, "p", "ada", "OTHER", api.NewSecret{Kind: api.TextSecret, Value: []byte("another value")})
	require.NoError(t, err)

	w, identity := claim(t, s)
	require.NotNil(t, w)
	assert.Equal(t, "core", w.Job.Name)
	assert.Equal(t, "1", w.Env["A"])
	assert.Equal(t, "1", w.Env["PISTON_BUILD_NUMBER"])
	assert.Equal(t, "refs/heads/main", w.Ref)
	assert.NotContains(t, string(w.Secrets), "the secret value", "sealed on the way")
	opened := opened(t, identity, w.Secrets)
	assert.Contains(t, string(opened), "KEY")
	assert.NotContains(t, string(opened), "OTHER", "only what the job's steps list")
	none := noClaim(t, s)
	assert.Nil(t, none, "the second job waits for the first")

	d, err := s.Report.Run(ctx, "p", run.Number)
	require.NoError(t, err)
	assert.Equal(t, state.Running, d.State)
	assert.Equal(t, state.Queued, d.Jobs[1].State)

	at := time.Now().UnixMilli()
	require.NoError(t, s.Work.Prepared(ctx, w.Attempt, api.Prepared{At: at}))
	code := 2
	require.NoError(t, s.Work.ReportSteps(ctx, w.Attempt, []api.StepReport{{Step: 0, State: state.Running, At: at}, {Step: 0, State: state.Failed, At: at + 50, ExitCode: &code, Reason: "exit code 2",
		Excerpt: []logline.Line{{N: 1, Text: "error: x"}}, Tests: &api.TestReport{Passed: 4, Failed: 1}}}))
	finish := api.Finish{State: state.Failed, Reason: "step failed", At: at + 60, Lines: 1}
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, finish))
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, finish), "the same again is no error: its answer may have been lost")
	assert.ErrorIs(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: state.Passed, At: at + 99}), ground.ErrGone)
	assert.ErrorIs(t, s.Work.ReportSteps(ctx, w.Attempt, []api.StepReport{{State: state.Passed}}), ground.ErrGone)
	assert.ErrorIs(t, s.Logs.AppendLog(ctx, w.Attempt, 1, logline.Encode([]logline.Line{{Text: "late"}})), ground.ErrGone)
	_, err = s.Work.Beat(ctx, w.Attempt)
	assert.ErrorIs(t, err, ground.ErrGone)

	d, err = s.Report.Run(ctx, "p", run.Number)
	require.NoError(t, err)
	assert.Equal(t, state.Failed, d.State)
	assert.Equal(t, "core › test", d.FailedAt)
	require.NotNil(t, d.Failure)
	assert.Equal(t, "exit code 2", d.Failure.Reason)
	assert.Equal(t, 2, *d.Failure.ExitCode)
	assert.Equal(t, "error: x", d.Failure.Lines[0].Text)
	assert.Equal(t, state.Skipped, d.Jobs[0].Steps[1].State)
	assert.Equal(t, state.Skipped, d.Jobs[1].State)
	assert.Equal(t, "core failed", d.Jobs[1].Reason)
	assert.Equal(t, 4, d.Jobs[0].Tests.Passed)
	assert.ErrorIs(t, s.Work.StopRun(ctx, "p", run.Number, "ada"), ground.ErrInvalid, "it is over")
}

func TestALostRunnerIsTriedAgainThreeTimes(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	run := planned(t, s, "[[job.main.step]]\nscript = \"true\"\n")
	for number := 1; number <= work.MaxAttempts; number++ {
		w, _ := claim(t, s)
		require.NotNil(t, w, "attempt %d", number)
		assert.Equal(t, number, w.Number)
		a, err := s.Store.AttemptByID(ctx, w.Attempt)
		require.NoError(t, err)
		require.NoError(t, s.Work.Lose(ctx, a), "with a lease that is not over nothing happens")
		_, err = s.Store.IsRunning(ctx, w.Attempt)
		require.NoError(t, err)
		_, err = s.Store.Beat(ctx, w.Attempt, -time.Second)
		require.NoError(t, err)
		require.NoError(t, s.Work.Lose(ctx, a))
	}
	d, err := s.Report.Run(ctx, "p", run.Number)
	require.NoError(t, err)
	assert.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Jobs[0].Reason, "was lost")
	require.Len(t, d.Jobs[0].Attempts, work.MaxAttempts)
	assert.EqualValues(t, 1, d.BuildNumber, "the number stays the run's")
}

func TestStoppingWhatWaits(t *testing.T) {
	s := open(t)
	run := planned(t, s, twoJobs)
	require.NoError(t, s.Work.StopRun(asItself(t), "p", run.Number, "ada"))
	d, err := s.Report.Run(asItself(t), "p", run.Number)
	require.NoError(t, err)
	assert.Equal(t, state.Cancelled, d.State)
	assert.Equal(t, "stopped by ada", d.Reason)
	w := noClaim(t, s)
	assert.Nil(t, w, "nothing of it is left in the queue")
}

// A reader gets every line once, whether it comes while the log grows, after it has moved, or after the stream has
// dropped it.
func TestFollowingALogAcrossItsMove(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	run := planned(t, s, "[[job.main.step]]\nscript = \"true\"\n")
	w, _ := claim(t, s)
	send := func(from, to int64) {
		var lines []logline.Line
		for n := from; n <= to; n++ {
			lines = append(lines, logline.Line{N: n, Text: fmt.Sprintf("line %d", n)})
		}
		require.NoError(t, s.Logs.AppendLog(ctx, w.Attempt, from, logline.Encode(lines)))
	}
	read := func(from int64, want int64) []logline.Line {
		reading, stop := context.WithTimeout(ctx, 10*time.Second)
		defer stop()
		var got []logline.Line
		_ = s.Logs.Follow(reading, run.ID, 0, logs.Cursors{w.Attempt: from}, func(_ store.Attempt, lines []logline.Line) error {
			got = append(got, lines...)
			if got[len(got)-1].N >= want {
				return errors.New("enough")
			}
			return nil
		})
		for i, l := range got {
			require.Equal(t, from+1+int64(i), l.N)
		}
		require.Len(t, got, int(want-from))
		return got
	}
	send(1, 100)
	send(51, 100) // a batch whose answer was lost comes again
	send(101, 150)
	read(0, 150)
	read(70, 150)
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: state.Passed, At: 1, Lines: 150}))
	require.Eventually(t, func() bool {
		a, err := s.Store.AttemptByID(ctx, w.Attempt)
		return err == nil && a.LogMoved != nil && a.LogLines == 150
	}, 10*time.Second, 20*time.Millisecond)
	a, err := s.Store.AttemptByID(ctx, w.Attempt)
	require.NoError(t, err)
	require.NoError(t, s.Stream.PurgeLog(ctx, logs.LogOf(a)))
	read(0, 150)
	assert.Equal(t, "line 150", read(149, 150)[0].Text)
	var text strings.Builder
	require.NoError(t, s.Logs.WriteLog(ctx, "p", run.Number, "main", 0, &text))
	assert.Equal(t, 150, strings.Count(text.String(), "\n"))
	part, err := s.Logs.Log(ctx, "p", run.Number, logs.LogRequest{Job: "main", Tail: 2, Limit: 10})
	require.NoError(t, err)
	assert.True(t, part.Complete)
	assert.Equal(t, "line 149", part.Lines[0].Text)
	assert.ErrorIs(t, s.Logs.AppendLog(ctx, w.Attempt, 0, []byte("no line")), ground.ErrInvalid)
}
