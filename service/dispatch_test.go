package service

import (
	"context"
	"io"
	"slices"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
)

func claimRequest(t *testing.T, waitMs int) api.ClaimRequest {
	t.Helper()
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	return api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: "r", Labels: []string{"linux"}, Slots: 1, WaitMs: waitMs, Recipient: identity.Recipient().String()}
}

// asksFor waits until a runner asks for work.
func asksFor(t *testing.T, s *Service, name string) {
	t.Helper()
	require.Eventually(t, func() bool {
		list, err := s.Work.Runners(asItself(t), api.Page{})
		require.NoError(t, err)
		return slices.ContainsFunc(list, func(r api.Runner) bool { return r.Name == name && r.Online })
	}, 10*time.Second, 10*time.Millisecond)
}

func TestAClaimIsAnsweredWhenWorkComes(t *testing.T) {
	s := open(t)
	given := make(chan *api.Work, 1)
	began := time.Now()
	go func() {
		w, err := workOf(s.Work.Claim(ground.AsItself(context.Background()), claimRequest(t, 20_000)))
		assert.NoError(t, err)
		given <- w
	}()
	asksFor(t, s, "r")
	planned(t, s, "[[job.a.step]]\nscript = \"true\"\n")
	w := <-given
	require.NotNil(t, w)
	assert.Less(t, time.Since(began), 10*time.Second, "it does not wait out its time")
	none, err := workOf(s.Work.Claim(asItself(t), claimRequest(t, 0)))
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
			w, err := workOf(s.Work.Claim(ctx, claimRequest(t, 5_000)))
			assert.True(t, w == nil || err == nil)
		}()
		hangUp()
		<-done
	}
	planned(t, s, "[[job.a.step]]\nscript = \"true\"\n")
	w, _ := claim(t, s)
	require.NotNil(t, w, "the job is there for who stays")
}

func TestAClaimBringsWhatTheJobTakes(t *testing.T) {
	s, dsn := openOn(t)
	planned(t, s, "[job.lib]\nvariants.over = { ABI = [\"arm\", \"x86\"] }\n[[job.lib.step]]\nscript = \"true\"\n[job.lib.hand.so]\nfiles = [\"out/*\"]\n[job.app]\nafter = [\"lib\"]\ntake = [\"lib/so\"]\n[[job.app.step]]\nscript = \"true\"\n")
	for range 2 {
		w, _ := claim(t, s)
		require.NotNil(t, w)
		assert.Empty(t, w.Takes)
		require.NoError(t, s.Work.HandOver(asItself(t), w.Attempt, "so", &slowReader{text: "packed " + w.Job.Name}))
		require.NoError(t, s.Work.FinishAttempt(asItself(t), w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	}
	w, _ := claim(t, s)
	require.NotNil(t, w)
	assert.Equal(t, []string{"lib+arm/so", "lib+x86/so"}, w.Takes, "from every variant")
	r, err := s.Work.OpenHandover(asItself(t), w.Attempt, "lib+arm", "so")
	require.NoError(t, err)
	defer r.Close()
	text := make([]byte, 100)
	n, _ := r.Read(text)
	assert.Equal(t, "packed lib+arm", string(text[:n]))
	_, err = s.Work.OpenHandover(asItself(t), w.Attempt, "lib+arm", "nothing")
	assert.ErrorIs(t, err, ground.ErrNotFound)
	alter(t, dsn, `DELETE FROM handovers`)
	_, err = s.Work.OpenHandover(asItself(t), w.Attempt, "lib+arm", "so")
	assert.ErrorContains(t, err, "start the whole run again", "whoever runs a job again after its rules have gone over the run")
	assert.ErrorIs(t, s.Work.HandOver(asItself(t), w.Attempt+99, "so", &slowReader{}), ground.ErrGone)
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
