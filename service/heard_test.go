package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/service/report"
	"gentlepiston.example/piston/store"
)

// pad writes down what a subscription brings.
type pad struct {
	mu    sync.Mutex
	begun bool
	logs  map[string]int64
	lines []string
	last  map[string]int64
}

func (p *pad) Hello(_ uint64, logs map[string]int64) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.begun, p.logs = true, logs
	return nil
}

func (p *pad) Change(uint64, map[string]int64, api.Change) error { return nil }

func (p *pad) Lines(_ uint64, logs map[string]int64, b api.LogBatch) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range b.Lines {
		p.lines = append(p.lines, fmt.Sprintf("%s.%d %d %s", b.Job, b.Attempt, l.N, l.Text))
	}
	p.last = map[string]int64{}
	for name, n := range logs {
		p.last[name] = n
	}
	return nil
}

func (p *pad) Idle() error { return nil }

func (p *pad) heard() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string(nil), p.lines...)
}

// Whoever follows a run hears each line once, from where they were, and of the job they ask for.
func TestALogIsFollowedFromWhereOneWas(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	run := planned(t, s, "[[job.one.step]]\nscript = \"true\"\n[[job.other.step]]\nscript = \"true\"\n")
	first, _ := claim(t, s)
	second, _ := claim(t, s)
	require.NotNil(t, second)
	if first.Job.Name != "one" {
		first, second = second, first
	}
	say := func(w *api.Work, from int64, texts ...string) {
		t.Helper()
		var lines []logline.Line
		for _, text := range texts {
			lines = append(lines, logline.Line{At: time.Now().UnixMilli(), Text: text})
		}
		require.NoError(t, s.Logs.AppendLog(ctx, w.Attempt, from, logline.Encode(lines)))
	}
	say(first, 1, "a", "b", "c")
	say(second, 1, "x")
	follow := func(sub report.Subscription) (*pad, context.CancelFunc) {
		t.Helper()
		p := &pad{}
		listening, stop := context.WithCancel(ctx)
		sub.Project, sub.Run = "p", run.Number
		go func() { _ = s.Report.Subscribe(listening, sub, p) }()
		require.Eventually(t, func() bool { p.mu.Lock(); defer p.mu.Unlock(); return p.begun }, 10*time.Second, 5*time.Millisecond)
		return p, stop
	}
	hears := func(p *pad, wanted ...string) {
		t.Helper()
		require.Eventually(t, func() bool { return len(p.heard()) >= len(wanted) }, 10*time.Second, 5*time.Millisecond, "%v", p.heard())
		assert.ElementsMatch(t, wanted, p.heard())
	}
	one, stop := follow(report.Subscription{Job: "one"})
	defer stop()
	all, stop := follow(report.Subscription{Job: "*"})
	defer stop()
	late, stop := follow(report.Subscription{Job: "one", Cursors: map[string]int64{report.LogName("one", 1): 2}})
	defer stop()
	hears(one, "one.1 1 a", "one.1 2 b", "one.1 3 c")
	hears(all, "one.1 1 a", "one.1 2 b", "one.1 3 c", "other.1 1 x")
	hears(late, "one.1 3 c")
	say(first, 4, "d")
	say(second, 2, "y")
	hears(one, "one.1 1 a", "one.1 2 b", "one.1 3 c", "one.1 4 d")
	hears(all, "one.1 1 a", "one.1 2 b", "one.1 3 c", "other.1 1 x", "one.1 4 d", "other.1 2 y")
	hears(late, "one.1 3 c", "one.1 4 d")
	one.mu.Lock()
	assert.Equal(t, map[string]int64{"one.1": 4}, one.last, "where to go on from")
	one.mu.Unlock()
	err := s.Report.Subscribe(ctx, report.Subscription{Project: "p", Run: run.Number + 1}, deaf{})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	err = s.Report.Subscribe(ctx, report.Subscription{Project: "p", Run: run.Number, Job: "third"}, deaf{})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	err = s.Report.Subscribe(ctx, report.Subscription{Project: "none"}, deaf{})
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

// signed sends an event as a webhook does.
func (s *Service) signed(t *testing.T, delivery, body string, wait time.Duration) (api.PushAccepted, error) {
	t.Helper()
	key, err := s.Projects.HookKey(asItself(t), "app")
	require.NoError(t, err)
	signer, err := standardwebhooks.NewWebhook(key.Key)
	require.NoError(t, err)
	now := time.Now()
	signature, err := signer.Sign(delivery, now, []byte(body))
	require.NoError(t, err)
	header := http.Header{}
	header.Set(standardwebhooks.HeaderWebhookID, delivery)
	header.Set(standardwebhooks.HeaderWebhookTimestamp, fmt.Sprint(now.Unix()))
	header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	return s.Intake.ReceiveSigned(asItself(t), "app", header, []byte(body), wait)
}

func TestWhatAWebhookBrings(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/trunk.toml": "[trigger.push]\n[trigger.proposal]\ninto = [\"main\"]\n" + step})
	push, err := json.Marshal(api.PushEvent{Type: "push", Timestamp: time.Now(), Data: api.PushData{
		Updates: []plan.RefUpdate{{Ref: "refs/heads/main", Before: plan.NoCommit, After: here}}}})
	require.NoError(t, err)
	came, err := s.signed(t, "d1", string(push), 10*time.Second)
	require.NoError(t, err)
	assert.True(t, came.Planned, "it is waited for")
	require.Len(t, came.Runs, 1)
	assert.Equal(t, "trunk", came.Runs[0].Pipeline)
	again, err := s.signed(t, "d1", string(push), 10*time.Second)
	require.NoError(t, err)
	assert.True(t, again.Repeat)
	assert.Empty(t, again.Runs)
	at := time.Now()
	unplanned, err := s.signed(t, "d2", string(push), 0)
	require.NoError(t, err)
	assert.False(t, unplanned.Planned)
	assert.Less(t, time.Since(at), 5*time.Second)
	proposal, err := json.Marshal(map[string]any{"type": "proposal", "timestamp": time.Now(), "data": api.ProposalData{
		Proposal: "41", Target: "main", Commit: here}})
	require.NoError(t, err)
	came, err = s.signed(t, "d3", string(proposal), 10*time.Second)
	require.NoError(t, err)
	require.Len(t, came.Runs, 1)
	d := s.details(t, came.Runs[0].Number)
	assert.True(t, d.Outside, "who sends it may be anybody")
	assert.Equal(t, "41", d.Proposal)
	for delivery, body := range map[string]string{"": string(push), strings.Repeat("d", 257): string(push), "with a space": string(push),
		"d4": "{", "d5": `{"type":"dance"}`, "d6": `{"type":"push","data":{"updates":[{"ref":"x","before":"y","after":"z"}]}}`,
		"d7": `{"type":"proposal","data":{"proposal":"41"}}`} {
		_, err := s.signed(t, delivery, body, 0)
		assert.Error(t, err, delivery)
	}
	_, err = s.Intake.ReceiveSigned(asItself(t), "app", http.Header{}, push, 0)
	assert.ErrorIs(t, err, intake.ErrSignature)
	_, err = s.Intake.ReceiveSigned(asItself(t), "none", http.Header{}, push, 0)
	assert.ErrorIs(t, err, intake.ErrSignature, "no word on which projects there are")
	s.allPlanned(t)
	kinds := map[string]string{}
	for _, p := range s.pushes(t, store.PushFilter{}) {
		kinds[p.Kind] = p.About
	}
	assert.Equal(t, map[string]string{"push": "", "proposal": "41 into main"}, kinds)
}

func TestWhatCannotBeStartedAgain(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/trunk.toml": "[trigger.push]\n" + step, "piston/bad.toml": "["})
	s.pushed(t, "main", plan.NoCommit, here)
	for _, run := range runsOf(t, s) {
		says := "is not over yet"
		if run.Pipeline == "bad" {
			says = "never began"
		}
		_, err := s.Intake.Restart(asItself(t), "app", run.Number, "ada", api.Restart{Failed: true})
		assert.ErrorIs(t, err, ground.ErrInvalid)
		assert.ErrorContains(t, err, says)
	}
	w, _ := claim(t, s)
	require.NoError(t, s.Work.FinishAttempt(asItself(t), w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	for _, run := range runsOf(t, s) {
		if run.Pipeline == "trunk" {
			_, err := s.Intake.Restart(asItself(t), "app", run.Number, "ada", api.Restart{Failed: true})
			assert.ErrorContains(t, err, "every job of run")
		}
	}
	_, err := s.Intake.Restart(asItself(t), "app", 99, "ada", api.Restart{})
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

func TestARunnerThatIsThereIsNotForgotten(t *testing.T) {
	s := open(t)
	_ = noClaim(t, s)
	assert.ErrorIs(t, s.Work.ForgetRunner(asItself(t), "r"), ground.ErrInvalid)
	assert.ErrorIs(t, s.Work.ForgetRunner(asItself(t), "none"), ground.ErrNotFound)
	_, err := s.People.IssueToken(asItself(t), api.NewToken{Name: "r", Kind: api.RunnerToken, Role: access.Reader})
	assert.ErrorIs(t, err, ground.ErrInvalid, "a runner has no role")
	ada := addPerson(t, s, "ada")
	ada.Token = 7
	err = s.People.ChangePassword(ground.WithWho(t.Context(), ada), api.OwnPassword{Old: "x", New: "y"})
	assert.ErrorIs(t, err, ground.ErrForbidden, "by a token")
}

func TestWhatAPipelineAsksForIsListed(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": "[input.size]\nkind = \"choice\"\nchoices = [\"small\", \"large\"]\n[input.after]\n[input.again]\nkind = \"flag\"\n" + step})
	list, err := s.Intake.Pipelines(asItself(t), "app", "")
	require.NoError(t, err)
	require.Len(t, list.Pipelines, 1)
	var names []string
	for _, input := range list.Pipelines[0].Inputs {
		names = append(names, input.Name)
	}
	assert.Equal(t, []string{"after", "again", "size"}, names)
	_, err = s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "p", Inputs: map[string]string{"size": "huge"}})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	_, err = s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "none"})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	_, err = s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "p", Ref: "none"})
	assert.ErrorIs(t, err, ground.ErrNotFound)
}
