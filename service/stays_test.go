package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/talk"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

const staying = `[job.core]
stay = "15m"
[[job.core.step]]
name = "test"
secrets = ["UPLOAD", "OTHER"]
script = "x"
`

func openWithP(t *testing.T) *Service {
	t.Helper()
	s := open(t)
	addProject(t, s, "p")
	return s
}

// left is a workspace that stays, and the runner that has it.
type left struct {
	run      record.RunNumber
	attempt  record.AttemptID
	identity *age.X25519Identity
}

// leftBy has a job of a pipeline end in some way, and its runner say that its workspace stays, where it does.
func leftBy(t *testing.T, s *Service, text string, to state.State, before func(run record.RunNumber)) (l left, stays bool) {
	t.Helper()
	ctx := asItself(t)
	p, err := s.Store.ProjectByName(ctx, "p")
	require.NoError(t, err)
	pipeline, findings := definition.Parse("piston/trunk.toml", []byte(text), nil)
	require.Empty(t, findings)
	run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Trigger: "push", Branch: "main", Commit: "c0ffee",
		Subject: "One", Author: "Ines", Queued: time.Now()}
	require.NoError(t, s.Tx(ctx, func(q ground.Q) error { return s.Work.AddRun(ctx, q, &run, pipeline) }))
	w, identity := claim(t, s)
	require.NotNil(t, w)
	if before != nil {
		before(run.Number)
	}
	end := api.Finish{State: to, At: time.Now().UnixMilli()}
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, end))
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, end), "the answer to the first may have been lost")
	answer, err := s.Stays.Finished(ctx, w.Attempt)
	require.NoError(t, err)
	l = left{run.Number, w.Attempt, identity}
	return l, answer.Stays
}

// pipe is a line whose other end is the test's.
type pipe struct {
	in, out chan []byte
	gone    chan struct{}
	once    sync.Once
}

func newPipe() *pipe {
	return &pipe{in: make(chan []byte, 64), out: make(chan []byte, 1024), gone: make(chan struct{})}
}

func (p *pipe) Read(ctx context.Context) ([]byte, error) {
	select {
	case m := <-p.in:
		return m, nil
	case <-p.gone:
		return nil, io.EOF
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (p *pipe) Write(ctx context.Context, m []byte) error {
	select {
	case p.out <- bytes.Clone(m):
		return nil
	case <-p.gone:
		return io.EOF
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (p *pipe) leave() { p.once.Do(func() { close(p.gone) }) }

// next is the next message of a kind that comes out of it.
func (p *pipe) next(t *testing.T, kind talk.Kind) string {
	t.Helper()
	deadline := time.After(20 * time.Second)
	for {
		select {
		case m := <-p.out:
			if talk.Kind(m[0]) == kind {
				return string(m[1:])
			}
		case <-deadline:
			require.Fail(t, "nothing came", "of kind %c", kind)
		}
	}
}

// met is a shell with both its ends.
type met struct {
	id             record.ShellID
	person, runner *pipe
	joined, served chan error
}

// meet has somebody ask for a shell, and the runner come to meet them.
func (l left) meet(t *testing.T, s *Service, ctx context.Context, in api.NewShell) *met {
	t.Helper()
	id, err := s.Stays.Enter(ctx, "p", l.run, "core", in)
	require.NoError(t, err)
	m := &met{id: id, person: newPipe(), runner: newPipe(), joined: make(chan error, 1), served: make(chan error, 1)}
	go func() { m.joined <- s.Stays.Join(ctx, "p", id, m.person) }()
	news, err := s.Stays.Beat(asItself(t), l.attempt, api.StayBeat{Recipient: l.identity.Recipient().String()})
	require.NoError(t, err)
	require.NotEmpty(t, news.Shells)
	assert.Equal(t, id, news.Shells[len(news.Shells)-1].ID)
	go func() { m.served <- s.Stays.Serve(asItself(t), l.attempt, id, m.runner) }()
	return m
}

// over waits until both sides have ended.
func (m *met) over(t *testing.T) {
	t.Helper()
	require.NoError(t, <-m.joined)
	require.NoError(t, <-m.served)
}

func TestAWorkspaceStaysWhereItIsWanted(t *testing.T) {
	s, dsn := openOn(t)
	addProject(t, s, "p")
	ada := with(t, s, "ada", access.Keeper)
	_, stays := leftBy(t, s, staying, state.Passed, nil)
	assert.False(t, stays, "it has passed")
	_, stays = leftBy(t, s, staying, state.Cancelled, nil)
	assert.False(t, stays, "it was stopped")
	failed, stays := leftBy(t, s, staying, state.Failed, nil)
	assert.True(t, stays)
	plain := strings.Replace(staying, "stay = \"15m\"\n", "", 1)
	_, stays = leftBy(t, s, plain, state.Failed, nil)
	assert.False(t, stays, "nobody wants it")
	stranger, _ := leftBy(t, s, staying, state.Failed, func(run record.RunNumber) {
		alter(t, dsn, `UPDATE runs SET outside = true WHERE number = `+fmt.Sprint(run))
	})
	answer, err := s.Stays.Finished(ada, stranger.attempt)
	require.NoError(t, err)
	assert.False(t, answer.Stays, "a stranger's pipeline does not say so")
	asked, stays := leftBy(t, s, plain, state.Passed, func(run record.RunNumber) {
		one, err := s.Stays.Ask(ada, "p", run, "core", api.NewStay{Minutes: 5})
		require.NoError(t, err)
		assert.Equal(t, api.StayAsked, one.State)
		_, err = s.Stays.Enter(ada, "p", run, "core", api.NewShell{Kind: api.ShellShell})
		assert.ErrorIs(t, err, ground.ErrInvalid, "it is at work yet")
	})
	assert.True(t, stays, "somebody has asked")

	list, err := s.Stays.List(asItself(t), api.StayFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, asked.run, list[0].Run)
	assert.Equal(t, "ada", list[0].By)
	assert.Equal(t, failed.run, list[1].Run)
	assert.Equal(t, 15, list[1].Minutes)
	assert.InDelta(t, 15, time.Until(*list[1].Until).Minutes(), 1)

	longer, err := s.Stays.Ask(ada, "p", failed.run, "core", api.NewStay{Minutes: 60})
	require.NoError(t, err)
	assert.InDelta(t, 60, time.Until(*longer.Until).Minutes(), 1)
	require.NoError(t, s.Stays.LetGo(ada, "p", failed.run, "core"))
	assert.ErrorIs(t, s.Stays.LetGo(ada, "p", failed.run, "core"), ground.ErrNotFound)
	_, err = s.Stays.Ask(ada, "p", failed.run, "core", api.NewStay{Minutes: 60})
	assert.ErrorIs(t, err, ground.ErrNotFound, "its files are gone")
	news, err := s.Stays.Beat(asItself(t), failed.attempt, api.StayBeat{Recipient: failed.identity.Recipient().String()})
	require.NoError(t, err)
	assert.True(t, news.Over)

	acts, err := s.People.Audit(asItself(t), ground.AuditFilter{Limit: 20})
	require.NoError(t, err)
	said := ""
	for _, a := range acts.Acts {
		said += fmt.Sprintln(a.Act, a.Who, a.Subject)
	}
	assert.Contains(t, said, "stay.ask ada core of run")
	assert.Contains(t, said, "stay.end ada core of run")
}

func TestAShellIsPassedOnAndRecorded(t *testing.T) {
	s := openWithP(t)
	l, _ := leftBy(t, s, staying, state.Failed, nil)
	ada := with(t, s, "ada", access.Keeper)
	m := l.meet(t, s, ada, api.NewShell{Kind: api.ShellShell, Terminal: true, Cols: 100, Rows: 30})
	m.runner.in <- talk.Of(talk.Data, []byte("$ "))
	assert.Equal(t, "$ ", m.person.next(t, talk.Data))
	m.person.in <- talk.Of(talk.Data, []byte("ls\n"))
	assert.Equal(t, "ls\n", m.runner.next(t, talk.Data))
	m.person.in <- talk.OfSize(talk.Size{Cols: 90, Rows: 20})
	m.runner.next(t, talk.Resize)
	m.runner.in <- talk.OfSize(talk.Size{Cols: 90, Rows: 20})
	code := 7
	m.runner.in <- talk.Of(talk.Data, []byte("a \x00 b\xff\n"))
	m.runner.in <- talk.OfEnding(talk.Ending{Code: &code})
	assert.Equal(t, 7, *talk.EndingOf([]byte(m.person.next(t, talk.Over))).Code)
	m.over(t)

	list, err := s.Stays.Shells(ada, "p", api.ShellFilter{Limit: 9})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, 7, *list[0].Code)
	assert.Equal(t, "ada", list[0].Who)
	assert.EqualValues(t, 9, list[0].Printed)
	r, err := s.Stays.Recording(ada, "p", m.id)
	require.NoError(t, err)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	require.Len(t, lines, 4)
	var events [][]any
	for _, line := range lines[1:] {
		var event []any
		require.NoError(t, json.Unmarshal([]byte(line), &event), line)
		events = append(events, event)
	}
	assert.Equal(t, []any{"o", "$ "}, events[0][1:])
	assert.Equal(t, []any{"r", "90x20"}, events[1][1:])
	assert.Equal(t, []any{"o", "a \ufffd b\ufffd\n"}, events[2][1:])
	require.NoError(t, s.Store.GiveUp(asItself(t), store.Kept{Kind: "log", ID: int64(l.attempt)}))
	_, err = s.Stays.Recording(ada, "p", m.id)
	assert.ErrorIs(t, err, ground.ErrNotFound, "it goes with the log")
	_, err = s.Stays.Recording(ada, "p", m.id+1)
	assert.ErrorIs(t, err, ground.ErrNotFound)
	addProject(t, s, "q")
	_, err = s.Stays.Recording(asItself(t), "q", m.id)
	assert.ErrorIs(t, err, ground.ErrNotFound, "it is another project's")
	assert.ErrorIs(t, s.Stays.Serve(asItself(t), l.attempt, m.id, newPipe()), ground.ErrGone, "opened once")
}

func TestWhoFloodsWaits(t *testing.T) {
	s := openWithP(t)
	l, _ := leftBy(t, s, staying, state.Failed, nil)
	m := l.meet(t, s, with(t, s, "ada", access.Keeper), api.NewShell{Kind: api.ShellShell})
	piece := talk.Of(talk.Data, bytes.Repeat([]byte("y\n"), talk.MaxData/2))
	sent, stop := 0, make(chan struct{})
	go func() {
		defer close(stop)
		for range 200 {
			select {
			case m.runner.in <- piece:
				sent++
			case <-m.runner.gone:
				return
			}
		}
	}()
	got := 0
	require.Eventually(t, func() bool {
		for len(m.person.out) > 0 {
			if message := <-m.person.out; talk.Kind(message[0]) == talk.Data {
				got += len(message) - 1
			}
		}
		return got == talk.Window
	}, 20*time.Second, 10*time.Millisecond)
	time.Sleep(100 * time.Millisecond) // for what must not come
	assert.Empty(t, m.person.out, "no more is on its way than was agreed on")
	m.person.in <- talk.OfTaken(talk.MaxData)
	m.person.next(t, talk.Data)
	m.person.leave()
	assert.Contains(t, talk.EndingOf([]byte(m.runner.next(t, talk.Over))).Why, "gone")
	m.runner.leave()
	<-stop
	assert.Less(t, sent, 100)
	m.over(t)
}

func TestWhatIsPrintedWithoutEndEndsTheShell(t *testing.T) {
	s := openWithP(t)
	l, _ := leftBy(t, s, staying, state.Failed, nil)
	m := l.meet(t, s, with(t, s, "ada", access.Keeper), api.NewShell{Kind: api.ShellShell})
	piece := talk.Of(talk.Data, make([]byte, talk.MaxData))
	go func() {
		for {
			select {
			case m.runner.in <- piece:
			case <-m.runner.gone:
				return
			}
		}
	}()
	for ended := false; !ended; {
		message := <-m.person.out
		switch talk.Kind(message[0]) {
		case talk.Data:
			m.person.in <- talk.OfTaken(len(message) - 1)
		case talk.Over:
			assert.Contains(t, talk.EndingOf(message[1:]).Why, "no more is recorded")
			ended = true
		}
	}
	m.runner.leave()
	m.over(t)
}

func TestStrangeMessagesEndAShell(t *testing.T) {
	s := openWithP(t)
	l, _ := leftBy(t, s, staying, state.Failed, nil)
	ada := with(t, s, "ada", access.Keeper)
	for _, strange := range []string{"", "?", "t1", "t\x7f\xff\xff\xff", "d" + strings.Repeat("x", talk.MaxData+1)} {
		for _, byRunner := range []bool{false, true} {
			m := l.meet(t, s, ada, api.NewShell{Kind: api.ShellShell})
			if byRunner {
				m.runner.in <- []byte(strange)
			} else {
				m.person.in <- []byte(strange)
			}
			assert.Regexp(t, "no message|was not given", talk.EndingOf([]byte(m.person.next(t, talk.Over))).Why)
			require.NoError(t, <-m.joined)
			if err := <-m.served; err != nil { // it may have been over before the runner came
				require.ErrorIs(t, err, ground.ErrGone)
			}
		}
	}
}

func TestSecretsAreGrantedForOneShell(t *testing.T) {
	s := openWithP(t)
	keeper := with(t, s, "ada", access.Keeper)
	builder := with(t, s, "ben", access.Builder)
	for _, name := range []string{"UPLOAD", "OTHER", "STRANGE"} {
		_, err := s.Secrets.SetSecret(keeper, "p", "ada", name, textSecret("the value of "+name))
		require.NoError(t, err)
	}
	l, _ := leftBy(t, s, staying, state.Failed, nil)
	_, err := s.Stays.Enter(builder, "p", l.run, "core", api.NewShell{Kind: api.ShellShell, Secrets: []string{"STRANGE"}})
	assert.ErrorContains(t, err, "no step of job core asks for the secret")

	id, err := s.Stays.Enter(builder, "p", l.run, "core", api.NewShell{Kind: api.ShellShell, Secrets: []string{"UPLOAD"}})
	require.NoError(t, err)
	person := newPipe()
	joined := make(chan error, 1)
	go func() { joined <- s.Stays.Join(builder, "p", id, person) }()
	assert.Contains(t, person.next(t, talk.Word), "waiting for a keeper of p to grant it the secrets UPLOAD")
	to := l.identity.Recipient().String()
	list, err := s.Store.ShellsToOpen(asItself(t), l.attempt)
	require.NoError(t, err)
	assert.Empty(t, list, "its runner hears nothing of it yet")
	assert.ErrorIs(t, s.Stays.Serve(asItself(t), l.attempt, id, newPipe()), ground.ErrGone, "nor may it open it")
	require.NoError(t, s.Stays.Grant(keeper, "p", id))
	assert.ErrorIs(t, s.Stays.Grant(keeper, "p", id), ground.ErrNotFound, "once")
	news, err := s.Stays.Beat(asItself(t), l.attempt, api.StayBeat{Recipient: to})
	require.NoError(t, err)
	require.Len(t, news.Shells, 1)
	assert.JSONEq(t, `{"UPLOAD": "dGhlIHZhbHVlIG9mIFVQTE9BRA=="}`,
		string(opened(t, l.identity, news.Shells[0].Secrets)), "that one, and no other of the job")
	person.leave()
	require.NoError(t, <-joined)

	own, err := s.Stays.Enter(keeper, "p", l.run, "core", api.NewShell{Kind: api.ShellShell, Secrets: []string{"OTHER"}})
	require.NoError(t, err)
	h, err := s.Store.ShellByID(asItself(t), own)
	require.NoError(t, err)
	assert.Equal(t, "ada", h.GrantedBy, "a keeper grants it to themselves, and the trail says so")
}

func TestWhatIsAskedOfAWorkspaceIsChecked(t *testing.T) {
	s := openWithP(t)
	l, _ := leftBy(t, s, staying, state.Failed, nil)
	ada := with(t, s, "ada", access.Keeper)
	for _, in := range []api.NewShell{{Kind: "door"}, {Kind: api.ShellShell, Command: "a\x00b"},
		{Kind: api.ShellShell, Command: strings.Repeat("x", 20_000)}, {Kind: api.ShellFiles, Path: "../other"},
		{Kind: api.ShellFiles, Path: "/etc/passwd"}, {Kind: api.ShellFiles, Path: "a\x00"}, {Kind: api.ShellFiles, Path: "a/../.."}} {
		_, err := s.Stays.Enter(ada, "p", l.run, "core", in)
		assert.ErrorIs(t, err, ground.ErrInvalid, "%.60v", in)
	}
	_, err := s.Stays.Enter(ada, "p", l.run, "none", api.NewShell{Kind: api.ShellShell})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	var opening sync.WaitGroup
	var mu sync.Mutex
	refused := 0
	for range 12 {
		opening.Go(func() {
			_, err := s.Stays.Enter(ada, "p", l.run, "core", api.NewShell{Kind: api.ShellShell})
			mu.Lock()
			defer mu.Unlock()
			if errors.Is(err, ground.ErrInvalid) {
				refused++
			}
		})
	}
	opening.Wait()
	assert.Equal(t, 4, refused, "eight at a time, however many ask at once")
}

func TestAStayEndsWithItsTimeAndWithItsRunner(t *testing.T) {
	s, dsn := openOn(t)
	addProject(t, s, "p")
	l, _ := leftBy(t, s, staying, state.Failed, nil)
	m := l.meet(t, s, with(t, s, "ada", access.Keeper), api.NewShell{Kind: api.ShellShell})
	m.runner.in <- talk.Of(talk.Data, []byte("$ "))
	m.person.next(t, talk.Data)
	alter(t, dsn, `UPDATE stays SET until = now() - interval '1 second'`)
	assert.Contains(t, talk.EndingOf([]byte(m.person.next(t, talk.Over))).Why, "its time is over")
	m.over(t)
	silent, _ := leftBy(t, s, staying, state.Failed, nil)
	alter(t, dsn, `UPDATE stays SET seen_at = now() - interval '2 minutes'`)
	require.Eventually(t, func() bool {
		one, err := s.Store.StayOf(asItself(t), silent.attempt)
		return err == nil && one.Ended != nil && strings.Contains(one.EndedWhy, "is not heard of any more")
	}, 30*time.Second, 50*time.Millisecond)
}

func TestAStayIsAskedForWholeOrNotAtAll(t *testing.T) {
	s, db := openFailing(t)
	addProject(t, s, "p")
	p := addPerson(t, s, "ada")
	require.NoError(t, s.People.Grant(asItself(t), api.Grant{Person: "ada", Project: "p", Role: access.Keeper}))
	_, err := s.Secrets.SetSecret(ground.WithWho(t.Context(), p), "p", "ada", "UPLOAD", textSecret("the value"))
	require.NoError(t, err)
	l, stays := leftBy(t, s, staying, state.Failed, nil)
	require.True(t, stays)
	var id record.ShellID
	for _, step := range []struct {
		what string
		do   func(ctx context.Context) error
	}{
		{"have it stay for longer", func(ctx context.Context) error {
			_, err := s.Stays.Ask(ground.WithWho(ctx, p), "p", l.run, "core", api.NewStay{Minutes: 30})
			return err
		}},
		{"list what stays", func(ctx context.Context) error {
			_, err := s.Stays.List(ground.WithWho(ctx, p), api.StayFilter{Limit: 9})
			return err
		}},
		{"ask for a shell", func(ctx context.Context) (err error) {
			id, err = s.Stays.Enter(ground.WithWho(ctx, p), "p", l.run, "core", api.NewShell{Kind: api.ShellShell})
			return err
		}},
		{"list shells", func(ctx context.Context) error {
			_, err := s.Stays.Shells(ground.WithWho(ctx, p), "p", api.ShellFilter{Limit: 9})
			return err
		}},
		{"not come", func(ctx context.Context) error { return s.Stays.Leave(ctx, id) }},
		{"let it go", func(ctx context.Context) error {
			return s.Stays.LetGo(ground.WithWho(ctx, p), "p", l.run, "core")
		}},
	} {
		eachStatement(t, db, step.what, step.do)
	}
}

func TestStaysOutliveTheService(t *testing.T) {
	s, dsn := openOn(t)
	addProject(t, s, "p")
	l, _ := leftBy(t, s, staying, state.Failed, nil)
	s.Ground.Close()
	alter(t, dsn, `UPDATE stays SET seen_at = now() - interval '1 hour'`)
	again := openIn(t, dsn, s.Home())
	require.Never(t, func() bool {
		one, err := again.Store.StayOf(asItself(t), l.attempt)
		return err != nil || one.Ended != nil
	}, 7*time.Second, 100*time.Millisecond, "its runner has a minute to say that it is there")
}
