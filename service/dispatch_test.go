package service

import (
	"context"
	"io"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/store"
)

func claimRequest(t *testing.T, waitMs int) api.ClaimRequest {
	t.Helper()
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	return api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: "r", Labels: []string{"linux"}, Slots: 1, WaitMs: waitMs, Recipient: identity.Recipient().String()}
}

func TestAClaimIsAnsweredWhenWorkComes(t *testing.T) {
	s := open(t)
	given := make(chan *api.Work, 1)
	began := time.Now()
	go func() {
		w, err := workOf(s.Claim(AsItself(context.Background()), claimRequest(t, 20_000)))
		assert.NoError(t, err)
		given <- w
	}()
	time.Sleep(300 * time.Millisecond)
	planned(t, s, "[[job.a.step]]\nscript = \"true\"\n")
	s.announce()
	w := <-given
	require.NotNil(t, w)
	assert.Less(t, time.Since(began), 10*time.Second, "it does not wait out its time")
	none, err := workOf(s.Claim(asItself(t), claimRequest(t, 0)))
	require.NoError(t, err)
	assert.Nil(t, none)
}

// A runner that hangs up takes nothing with it.
func TestARunnerThatLeavesTakesNothing(t *testing.T) {
	s := open(t)
	for range 20 {
		ctx, hangUp := context.WithCancel(asItself(t))
		done := make(chan struct{})
		go func() {
			defer close(done)
			w, err := workOf(s.Claim(ctx, claimRequest(t, 5_000)))
			assert.True(t, w == nil || err == nil)
		}()
		hangUp()
		<-done
	}
	planned(t, s, "[[job.a.step]]\nscript = \"true\"\n")
	s.announce()
	w, _ := claim(t, s)
	require.NotNil(t, w, "the job is there for who stays")
	s.dispatch.mu.Lock()
	defer s.dispatch.mu.Unlock()
	assert.Empty(t, s.dispatch.waiting, "nobody is remembered who has gone")
}

func TestWhatNobodyWaitsForGoesBack(t *testing.T) {
	s := open(t)
	run := planned(t, s, "[[job.a.step]]\nscript = \"true\"\n")
	list, err := s.store.Attempts(asItself(t), run.ID)
	require.NoError(t, err)
	gone := &waiter{runner: store.Runner{Name: "gone"}, given: make(chan given, 1)}
	given, err := s.store.HandOut(asItself(t), map[int64]store.Runner{list[0].ID: gone.runner}, Lease)
	require.NoError(t, err)
	require.NoError(t, s.dispatch.hand(asItself(t), given, map[int64]*waiter{list[0].ID: gone}))
	assert.Empty(t, gone.given)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	assert.Equal(t, list[0].ID, w.Attempt)
}

func TestAClaimBringsWhatTheJobTakes(t *testing.T) {
	s, dsn := openOn(t)
	planned(t, s, "[job.lib]\nvariants.over = { ABI = [\"arm\", \"x86\"] }\n[[job.lib.step]]\nscript = \"true\"\n[job.lib.hand.so]\nfiles = [\"out/*\"]\n[job.app]\nafter = [\"lib\"]\ntake = [\"lib/so\"]\n[[job.app.step]]\nscript = \"true\"\n")
	for range 2 {
		w, _ := claim(t, s)
		require.NotNil(t, w)
		assert.Empty(t, w.Takes)
		require.NoError(t, s.HandOver(asItself(t), w.Attempt, "so", &slowReader{text: "packed " + w.Job.Name}))
		require.NoError(t, s.FinishAttempt(asItself(t), w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	}
	w, _ := claim(t, s)
	require.NotNil(t, w)
	assert.Equal(t, []string{"lib+arm/so", "lib+x86/so"}, w.Takes, "from every variant")
	r, err := s.OpenHandover(asItself(t), w.Attempt, "lib+arm", "so")
	require.NoError(t, err)
	defer r.Close()
	text := make([]byte, 100)
	n, _ := r.Read(text)
	assert.Equal(t, "packed lib+arm", string(text[:n]))
	_, err = s.OpenHandover(asItself(t), w.Attempt, "lib+arm", "nothing")
	assert.ErrorIs(t, err, ErrNotFound)
	alter(t, dsn, `DELETE FROM handovers`)
	_, err = s.OpenHandover(asItself(t), w.Attempt, "lib+arm", "so")
	assert.ErrorContains(t, err, "start the whole run again", "whoever runs a job again after its rules have gone over the run")
	assert.ErrorIs(t, s.HandOver(asItself(t), w.Attempt+99, "so", &slowReader{}), ErrGone)
}

// slowReader gives a text a byte at a time.
type slowReader struct{ text string }

func (r *slowReader) Read(p []byte) (int, error) {
	if r.text == "" {
		return 0, io.EOF
	}
	p[0], r.text = r.text[0], r.text[1:]
	return 1, nil
}

func TestEventsThatAreRefused(t *testing.T) {
	id := "0123456789abcdef0123456789abcdef01234567"
	good := api.ProposalData{Proposal: "41", Target: "main", Commit: id, Ref: "refs/outside/41"}
	require.NoError(t, checkProposal(good))
	for name, change := range map[string]func(*api.ProposalData){
		"no name":                    func(d *api.ProposalData) { d.Proposal = "" },
		"a name with a break":        func(d *api.ProposalData) { d.Proposal = "4\n1" },
		"no target":                  func(d *api.ProposalData) { d.Target = "" },
		"a target that is an option": func(d *api.ProposalData) { d.Target = "a b" },
		"a target that leaves":       func(d *api.ProposalData) { d.Target = "../x" },
		"a commit that is none":      func(d *api.ProposalData) { d.Commit = "main" },
		"a ref that is none":         func(d *api.ProposalData) { d.Ref = "--upload-pack=x" },
		"a ref with a colon":         func(d *api.ProposalData) { d.Ref = "refs/a:refs/b" },
	} {
		d := good
		change(&d)
		assert.ErrorIs(t, checkProposal(d), ErrInvalid, name)
	}
	for _, ref := range []string{"refs/heads/main", "refs/heads/work/ünï", "refs/tags/v1.0"} {
		assert.True(t, refForm(ref), ref)
	}
	for _, ref := range []string{"main", "refs/heads/a..b", "refs/heads/a~1", "refs/heads/a^", "refs/heads/a?", "refs/heads/a[", "refs/heads/a\\b", "refs/heads/", "refs/heads/a\x7f"} {
		assert.False(t, refForm(ref), ref)
	}
}

func TestAdvancingASchedule(t *testing.T) {
	noon := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	d := store.Schedule{Pipeline: "p", Name: "n", Cron: "0 * * * *", Zone: "UTC", Branch: "main", Next: noon}
	next, event, err := advance(d, noon.Add(2*time.Second))
	require.NoError(t, err)
	assert.Zero(t, event.Missed, "a moment late is not missed")
	assert.Equal(t, noon, event.At)
	assert.Equal(t, noon.Add(time.Hour), next.UTC())
	next, event, err = advance(d, noon.Add(3*time.Hour+time.Minute))
	require.NoError(t, err)
	assert.Equal(t, 3, event.Missed, "the one a minute ago is in time")
	assert.Equal(t, noon.Add(3*time.Hour), event.At.UTC(), "one run, of the latest time")
	assert.Equal(t, noon.Add(4*time.Hour), next.UTC())
	d.Cron = "never"
	_, _, err = advance(d, noon)
	assert.Error(t, err)
}

func TestWhatAStepIsToldOfItsRun(t *testing.T) {
	r := store.Run{Project: "p", Number: 7, Pipeline: "trunk", Trigger: plan.OnProposal, Target: "main", Outside: true, BuildNumber: 5}
	r.Inputs.V = map[string]string{"release-note": "x"}
	r.Env.V = map[string]string{"MODE": "fast", "PISTON_RUN": "forged"}
	env := runEnv(r)
	for name, want := range map[string]string{"PISTON_RUN": "7", "PISTON_TRIGGER": "proposal", "PISTON_TARGET": "main", "PISTON_TRUSTED": "false", "PISTON_BUILD_NUMBER": "5", "MODE": "fast",
		(&definition.Input{Name: "release-note"}).Variable(): "x"} {
		assert.Equal(t, want, env[name], name)
	}
}
