package service

import (
	"context"
	"database/sql"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/riverqueue/river"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/gates"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// openRecords opens a service, and its records beside it.
func openRecords(t *testing.T) (*Service, *sql.DB) {
	t.Helper()
	s, dsn := openOn(t)
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return s, db
}

// gated is a pipeline with a gate between two jobs; ask are the lines of its question.
func gated(ask string) string {
	return "[[job.a.step]]\nscript = \"x\"\n[job.go]\nafter = [\"a\"]\n[job.go.ask]\nquestion = \"Publish run ${PISTON_RUN}?\"\n" +
		ask + "\n[job.b]\nafter = [\"go\"]\n[[job.b.step]]\nscript = \"x\"\n"
}

// asked runs a gated pipeline up to its gate.
func asked(t *testing.T, s *Service, ask string) (run store.Run, gate api.Gate) {
	t.Helper()
	run = planned(t, s, gated(ask))
	passes(t, s)
	return run, gateOf(t, s, run)
}

// passes lets the next job pass.
func passes(t *testing.T, s *Service) {
	t.Helper()
	w, _ := claim(t, s)
	require.NotNil(t, w)
	require.NoError(t, s.Work.FinishAttempt(asItself(t), w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
}

// gateOf is the gate of a run as whoever asks is told of it.
func gateOf(t *testing.T, s *Service, run store.Run) api.Gate {
	t.Helper()
	g := jobOf(t, s, run, "go").Gate
	require.NotNil(t, g)
	return *g
}

func jobOf(t *testing.T, s *Service, run store.Run, name string) api.Job {
	t.Helper()
	d, err := s.Report.Run(asItself(t), "p", run.Number)
	require.NoError(t, err)
	for _, j := range d.Jobs {
		if j.Name == name {
			return j
		}
	}
	require.Fail(t, "no job "+name)
	return api.Job{}
}

// with gives somebody a role in the project p.
func with(t *testing.T, s *Service, name string, role access.Role) context.Context {
	t.Helper()
	w := addPerson(t, s, name)
	if role != access.Nobody {
		require.NoError(t, s.People.Grant(asItself(t), api.Grant{Person: name, Project: "p", Role: role}))
	}
	return ground.WithWho(t.Context(), w)
}

func runState(t *testing.T, s *Service, run store.Run) (state.State, string) {
	t.Helper()
	now, err := s.Store.RunByID(asItself(t), run.ID)
	require.NoError(t, err)
	return now.State, now.Reason
}

func TestAGateWaitsForTwoAndLetsTheRestGoOn(t *testing.T) {
	s := open(t)
	addProject(t, s, "p")
	ada, ben := with(t, s, "ada", access.Keeper), with(t, s, "ben", access.Keeper)
	run, gate := asked(t, s, "who = [\"keeper\"]\ncount = 2")
	assert.Equal(t, fmt.Sprintf("Publish run %d?", run.Number), gate.Question)
	now, _ := runState(t, s, run)
	assert.Equal(t, state.Waiting, now)
	assert.Equal(t, state.Waiting, jobOf(t, s, run, "go").State)
	assert.Nil(t, noClaim(t, s), "no machine is held, and nothing goes on")

	g, err := s.Gates.Answer(ada, "p", gate.ID, api.GateAnswer{Yes: true, Comment: " looks well "})
	require.NoError(t, err)
	assert.Empty(t, g.Outcome)
	require.Len(t, g.Answers, 1)
	assert.Equal(t, "looks well", g.Answers[0].Comment)
	_, err = s.Gates.Answer(ada, "p", gate.ID, api.GateAnswer{Yes: true})
	assert.ErrorIs(t, err, ground.ErrInvalid, "one is not two")

	g, err = s.Gates.Answer(ben, "p", gate.ID, api.GateAnswer{Yes: true})
	require.NoError(t, err)
	assert.Equal(t, "yes", g.Outcome)
	assert.Equal(t, state.Passed, jobOf(t, s, run, "go").State)
	passes(t, s)
	now, _ = runState(t, s, run)
	assert.Equal(t, state.Passed, now)
	_, err = s.Gates.Answer(ben, "p", gate.ID, api.GateAnswer{})
	require.ErrorIs(t, err, ground.ErrInvalid, "an answer after the end")
	assert.Contains(t, err.Error(), "has been passed")
	assert.Equal(t, []string{"gate.answer", "gate.answer"}, acts(t, s)[:2])
}

func TestOneNoEndsIt(t *testing.T) {
	s := open(t)
	addProject(t, s, "p")
	ada, ben := with(t, s, "ada", access.Keeper), with(t, s, "ben", access.Builder)
	run, gate := asked(t, s, "who = [\"keeper\", \"person:ben\"]\ncount = 2")
	_, err := s.Gates.Answer(ben, "p", gate.ID, api.GateAnswer{Yes: true})
	require.NoError(t, err)
	_, err = s.Gates.Answer(ada, "p", gate.ID, api.GateAnswer{Comment: "the chart is empty"})
	require.NoError(t, err)
	now, reason := runState(t, s, run)
	assert.Equal(t, state.Failed, now)
	assert.Equal(t, "ada said no: the chart is empty", reason)
	d, err := s.Report.Run(asItself(t), "p", run.Number)
	require.NoError(t, err)
	require.NotNil(t, d.Failure)
	assert.Equal(t, "go", d.Failure.Job)
	assert.Equal(t, reason, d.Failure.Reason)
	assert.Equal(t, "go", d.FailedAt)
	assert.Equal(t, state.Skipped, jobOf(t, s, run, "b").State)

	// Started again, it asks anew.
	_, err = s.Intake.Restart(asItself(t), "p", run.Number, "ada", api.Restart{Failed: true})
	require.NoError(t, err)
	again := gateOf(t, s, run)
	assert.NotEqual(t, gate.ID, again.ID)
	assert.Empty(t, again.Answers)
	_, err = s.Gates.Answer(ada, "p", gate.ID, api.GateAnswer{Yes: true})
	assert.ErrorIs(t, err, ground.ErrInvalid, "the old one stays over")
}

func TestWhoMayAnswer(t *testing.T) {
	s := open(t)
	addProject(t, s, "p")
	_, err := s.People.EnsureAdministrator(asItself(t))
	require.NoError(t, err)
	ada, ben := with(t, s, "ada", access.Keeper), with(t, s, "ben", access.Builder)
	eve, dan := with(t, s, "eve", access.Nobody), with(t, s, "dan", access.Reader)
	_, err = s.People.SetGroup(asItself(t), "shore", api.GroupChange{Members: []string{"dan", "eve"}})
	require.NoError(t, err)
	run, gate := asked(t, s, "who = [\"keeper\", \"group:shore\"]\ncount = 3\nnot_starter = true")
	_, err = s.Gates.Answer(ben, "p", gate.ID, api.GateAnswer{Yes: true})
	assert.ErrorIs(t, err, ground.ErrForbidden)
	assert.Contains(t, err.Error(), "any keeper or group shore")
	_, err = s.Gates.Answer(eve, "p", gate.ID, api.GateAnswer{Yes: true})
	assert.ErrorIs(t, err, ground.ErrForbidden, "of the group, but not of the project")
	_, err = s.Gates.Answer(dan, "p", gate.ID, api.GateAnswer{Yes: true})
	assert.NoError(t, err)
	_, err = s.Gates.Answer(dan, "q", gate.ID, api.GateAnswer{Yes: true})
	assert.ErrorIs(t, err, ground.ErrNotFound, "a gate of another project")
	for _, w := range []ground.Who{{}, {Kind: api.RunnerToken, Name: "r"}, {Name: "the service", Kind: "service"}} {
		_, err = s.Gates.Answer(ground.WithWho(t.Context(), w), "p", gate.ID, api.GateAnswer{Yes: true})
		assert.ErrorIs(t, err, ground.ErrForbidden, "%+v", w)
	}
	_, err = s.Gates.Answer(ada, "p", gate.ID, api.GateAnswer{Yes: true, Comment: "a\x00b"})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	_, err = s.Gates.Answer(ada, "p", gate.ID, api.GateAnswer{Yes: true, Comment: "a\xffb"})
	assert.ErrorIs(t, err, ground.ErrInvalid)

	// A token that may do less than its person may not answer for them.
	bounded := ground.WhoAsks(ada)
	bounded.Bound = access.Builder
	_, err = s.Gates.Answer(ground.WithWho(t.Context(), bounded), "p", gate.ID, api.GateAnswer{Yes: true})
	assert.ErrorIs(t, err, ground.ErrForbidden)

	// Whoever loses the role takes their word along.
	_, err = s.People.SetGroup(asItself(t), "shore", api.GroupChange{Members: []string{"eve", "ben"}})
	require.NoError(t, err)
	for _, name := range []context.Context{ada, ben} {
		g, err := s.Gates.Answer(name, "p", gate.ID, api.GateAnswer{Yes: true})
		require.NoError(t, err)
		assert.Empty(t, g.Outcome)
	}
	now, _ := runState(t, s, run)
	assert.Equal(t, state.Waiting, now, "three have said yes, and two of them may")
}

func TestWhoStartsARunMayNotPassItsGate(t *testing.T) {
	s, db := openRecords(t)
	addProject(t, s, "p")
	ada := with(t, s, "ada", access.Keeper)
	run, gate := asked(t, s, "who = [\"keeper\"]\nnot_starter = true")
	_, err := db.Exec(`UPDATE runs SET started_by = 'ada' WHERE id = $1`, run.ID)
	require.NoError(t, err)
	_, err = s.Gates.Answer(ada, "p", gate.ID, api.GateAnswer{Yes: true})
	assert.ErrorIs(t, err, ground.ErrForbidden)
	page, err := s.Gates.List(ada, gates.Filter{Mine: true, Limit: 5})
	require.NoError(t, err)
	assert.Empty(t, page.Gates)
}

func TestWhatBecomesOfAGateThatNobodyAnswers(t *testing.T) {
	s, db := openRecords(t)
	cases := []struct {
		unanswered      string
		gate, run, next state.State
	}{
		{"", state.TimedOut, state.TimedOut, state.Skipped},
		{"unanswered = \"fail\"\n", state.TimedOut, state.TimedOut, state.Skipped},
		{"unanswered = \"skip\"\n", state.Skipped, state.Passed, state.Skipped},
		{"unanswered = \"pass\"\n", state.Passed, state.Running, state.Queued},
	}
	var runs []store.Run
	var ids []record.GateID
	for _, c := range cases {
		run, gate := asked(t, s, c.unanswered+"who = [\"keeper\"]\nwithin = \"1m\"")
		assert.Equal(t, time.Minute, gate.Until.Sub(gate.Asked))
		runs, ids = append(runs, run), append(ids, gate.ID)
	}
	due(t, s, db, ids)
	for i, run := range runs {
		assert.Equal(t, state.Waiting, jobOf(t, s, run, "go").State, "nothing ends before its time")
		_, err := db.Exec(`UPDATE gates SET until = now() WHERE id = $1`, ids[i])
		require.NoError(t, err)
	}
	due(t, s, db, append(ids, ids...)) // and again, as after a crash
	for i, c := range cases {
		assert.Equal(t, c.gate, jobOf(t, s, runs[i], "go").State, c.unanswered)
		assert.Equal(t, c.next, jobOf(t, s, runs[i], "b").State, c.unanswered)
		now, reason := runState(t, s, runs[i])
		assert.Equal(t, c.run, now, c.unanswered)
		if c.run == state.TimedOut {
			assert.Equal(t, "nobody has answered in 1m0s", reason)
		}
	}
}

// due does what is done when the time of gates is over.
func due(t *testing.T, s *Service, db *sql.DB, ids []record.GateID) {
	t.Helper()
	var all []river.JobArgs
	for _, id := range ids {
		all = append(all, work.GateDue{Gate: id})
	}
	require.NoError(t, s.Tx(asItself(t), func(q ground.Q) error { return q.PutOff(asItself(t), all...) }))
	require.Eventually(t, func() bool {
		var left int
		err := db.QueryRow(`SELECT count(*) FROM river_job WHERE kind = 'gate-due'
			AND state IN ('available', 'running', 'retryable')`).Scan(&left)
		return err == nil && left == 0
	}, 30*time.Second, 20*time.Millisecond)
}

func TestStoppingARunThatWaits(t *testing.T) {
	s := open(t)
	addProject(t, s, "p")
	ada := with(t, s, "ada", access.Keeper)
	run, gate := asked(t, s, "who = [\"keeper\"]")
	require.NoError(t, s.Work.StopRun(asItself(t), "p", run.Number, "ben"))
	now, _ := runState(t, s, run)
	assert.Equal(t, state.Cancelled, now)
	assert.Equal(t, "cancelled", gateOf(t, s, run).Outcome)
	_, err := s.Gates.Answer(ada, "p", gate.ID, api.GateAnswer{Yes: true})
	assert.ErrorIs(t, err, ground.ErrInvalid)
}

func TestALimitStandsStillWhileARunWaits(t *testing.T) {
	s, db := openRecords(t)
	addProject(t, s, "p")
	ada := with(t, s, "ada", access.Keeper)
	run := planned(t, s, "limit = \"1h\"\nat_once = 1\n"+gated("who = [\"keeper\"]"))
	passes(t, s)
	_, err := db.Exec(`UPDATE runs SET waiting_since = now() - interval '1 day',
		deadline = deadline - interval '1 day' WHERE id = $1`, run.ID)
	require.NoError(t, err)

	// Meanwhile another run of the pipeline goes on: this one is not at work.
	other := planned(t, s, "at_once = 1\n[[job.a.step]]\nscript = \"x\"\n")
	passes(t, s)
	now, _ := runState(t, s, other)
	assert.Equal(t, state.Passed, now)

	_, err = s.Gates.Answer(ada, "p", gateOf(t, s, run).ID, api.GateAnswer{Yes: true})
	require.NoError(t, err)
	overdue, err := s.Store.OverdueRuns(asItself(t))
	require.NoError(t, err)
	assert.Empty(t, overdue)
	passes(t, s)
	now, _ = runState(t, s, run)
	assert.Equal(t, state.Passed, now)
}

func TestTwoAnswersInTheSameMoment(t *testing.T) {
	s := open(t)
	addProject(t, s, "p")
	people := []context.Context{with(t, s, "ada", access.Keeper), with(t, s, "ben", access.Keeper)}
	for i := range 10 {
		run, gate := asked(t, s, "who = [\"keeper\"]")
		errs := make([]error, 2)
		var both sync.WaitGroup
		for k, ctx := range people {
			both.Go(func() {
				_, errs[k] = s.Gates.Answer(ctx, "p", gate.ID, api.GateAnswer{Yes: (i+k)%2 == 0})
			})
		}
		both.Wait()
		assert.True(t, (errs[0] == nil) != (errs[1] == nil), "one decides, and the other is told: %v, %v", errs[0], errs[1])
		if now, _ := runState(t, s, run); now == state.Running {
			passes(t, s)
		}
	}
}

func TestListsOfGates(t *testing.T) {
	s := open(t)
	addProject(t, s, "p")
	ada, eve := with(t, s, "ada", access.Keeper), with(t, s, "eve", access.Nobody)
	for i := range 7 {
		who := "keeper"
		if i%2 == 1 {
			who = "person:ben"
		}
		asked(t, s, fmt.Sprintf("who = [%q]", who))
	}
	var mine []record.GateID
	var before record.GateID
	for pages := 0; ; pages++ {
		require.Less(t, pages, 5)
		page, err := s.Gates.List(ada, gates.Filter{Mine: true, Before: before, Limit: 2})
		require.NoError(t, err)
		for _, g := range page.Gates {
			mine = append(mine, g.ID)
			assert.Empty(t, g.MayNot)
		}
		if before = page.Next; before == 0 {
			break
		}
	}
	assert.Len(t, mine, 4)
	all, err := s.Gates.List(ada, gates.Filter{Project: "p", Open: true, Limit: 10})
	require.NoError(t, err)
	assert.Len(t, all.Gates, 7)
	assert.Zero(t, all.Next)
	none, err := s.Gates.List(eve, gates.Filter{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, none.Gates, "what one may not see is not there")
	_, err = s.Gates.List(eve, gates.Filter{Project: "p", Limit: 10})
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

func TestAStrangersQuestionSaysWhoseItIs(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	p := addProject(t, s, "p")
	pipeline, findings := definition.Parse("piston/trunk.toml", []byte("[job.go.ask]\nwho = [\"keeper\"]\nquestion = \"Publish 1.5.0?\"\n"), nil)
	require.Empty(t, findings)
	run := store.Run{ProjectID: p.ID, Project: "p", Pipeline: "trunk", Trigger: "proposal", Outside: true, Commit: "c0ffee", Queued: time.Now()}
	require.NoError(t, s.Tx(ctx, func(q ground.Q) error { return s.Work.AddRun(ctx, q, &run, pipeline) }))
	assert.Equal(t, "Of a proposal from outside: Publish 1.5.0?", gateOf(t, s, run).Question)
}
