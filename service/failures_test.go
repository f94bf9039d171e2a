package service

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/chunk"
	"gentlepiston.example/piston/core/keep"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/service/caches"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/service/report"
	"gentlepiston.example/piston/service/work"
)

// failing makes the database refuse one statement of those that are asked by a context which carries it.
type failing struct {
	mu   sync.Mutex
	left int // statements until then
	done bool
	what string // the statement; it is tried again on other connections

	written bool // a transaction was committed before, and no other begun
}

type failingKey struct{}

// TraceQueryStart implements pgx.QueryTracer. What it returns is the context the statement runs by.
func (*failing) TraceQueryStart(ctx context.Context, _ *pgx.Conn, q pgx.TraceQueryStartData) context.Context {
	f, is := ctx.Value(failingKey{}).(*failing)
	if !is || q.SQL == "rollback" {
		return ctx
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.left--; f.left > 0 || f.done && q.SQL != f.what {
		f.written = q.SQL == "commit" || f.written && !strings.HasPrefix(q.SQL, "begin")
		return ctx
	}
	f.done, f.what = true, q.SQL
	ended, cancel := context.WithCancel(ctx)
	cancel()
	return ended
}

func (*failing) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}

// openFailing opens a service whose database fails when it is asked to.
func openFailing(t *testing.T) (*Service, *sql.DB) {
	t.Helper()
	dsn := testdb.New(t)
	config, err := pgx.ParseConfig(dsn)
	require.NoError(t, err)
	config.Tracer = &failing{}
	s := openAt(t, stdlib.RegisterConnConfig(config))
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return s, db
}

// moving are tables that change beside what is asked; so do the columns that tell where a log is, and when something
// was last heard of.
var moving = map[string]bool{"outbox": true, "goose_db_version": true, "used_days": true}

// records is a digest of each table, when nothing waits to be planned beside what is asked.
func records(t *testing.T, db *sql.DB) map[string]string {
	t.Helper()
	require.Eventually(t, func() bool {
		var waiting int
		require.NoError(t, db.QueryRow(`SELECT count(*) FROM pushes WHERE planned_at IS NULL AND tries = 0`).Scan(&waiting))
		return waiting == 0
	}, time.Minute, time.Millisecond)
	rows, err := db.Query(`SELECT table_name FROM information_schema.tables WHERE table_schema = 'public'
		AND table_name NOT LIKE 'river%'`)
	require.NoError(t, err)
	defer rows.Close()
	all := map[string]string{}
	for rows.Next() {
		var table string
		require.NoError(t, rows.Scan(&table))
		all[table] = ""
	}
	require.NoError(t, rows.Err())
	for table := range all {
		var digest string
		if !moving[table] {
			require.NoError(t, db.QueryRow(fmt.Sprintf(
				`SELECT coalesce(md5(string_agg(t, chr(10) ORDER BY t)), '')
					FROM (SELECT (to_jsonb(x) - '{log_blob,log_size,log_lines,log_moved,lease_until,last_used_at}'::text[])::text AS t FROM %s x) y`,
				table)).Scan(&digest))
		}
		all[table] = digest
	}
	return all
}

// eachStatement does something over and over while its first, second, third … statement fails, until none is left that
// could. Whatever fails, it says so, and leaves the records as they were; but for what only the answer needs, which is
// read when all has been written.
func eachStatement(t *testing.T, db *sql.DB, what string, do func(ctx context.Context) error) {
	t.Helper()
	for n := 1; ; n++ {
		require.Less(t, n, 200, what)
		before := records(t, db)
		f := &failing{left: n}
		err := do(context.WithValue(asItself(t), failingKey{}, f))
		if !f.done {
			require.NoError(t, err, what)
			require.Greater(t, n, 1, "%s asks the database nothing", what)
			return
		}
		assert.Error(t, err, "%s: its statement %d failed", what, n)
		if f.written {
			return
		}
		assert.Equal(t, before, records(t, db), "%s: its statement %d failed", what, n)
	}
}

func TestWhatTheDatabaseRefusesIsSaidAndNothingIsHalfWritten(t *testing.T) {
	s, db := openFailing(t)
	r := addRepository(t, s)
	r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	ada := addPerson(t, s, "ada")
	at := func(ctx context.Context) context.Context { return ground.WithWho(ctx, ada) }
	yes, no := true, false
	var run api.Run
	var token api.IssuedToken
	steps := []struct {
		what string
		do   func(ctx context.Context) error
	}{
		{"add a person", func(ctx context.Context) error {
			_, err := s.People.AddPerson(ctx, api.NewPerson{Name: "ben"})
			return err
		}},
		{"list people", func(ctx context.Context) error { _, err := s.People.People(ctx, api.Page{}); return err }},
		{"reset a password", func(ctx context.Context) error { _, err := s.People.ResetPassword(ctx, "ben"); return err }},
		{"make an administrator", func(ctx context.Context) error {
			_, err := s.People.ChangePerson(ctx, "ben", api.PersonChange{Administrator: &yes})
			return err
		}},
		{"enable a person", func(ctx context.Context) error {
			_, err := s.People.ChangePerson(ctx, "ada", api.PersonChange{Disabled: &no})
			return err
		}},
		{"set a group", func(ctx context.Context) error {
			_, err := s.People.SetGroup(ctx, "makers", api.GroupChange{Members: []string{"ada", "ben"}})
			return err
		}},
		{"list groups", func(ctx context.Context) error { _, err := s.People.Groups(ctx, api.Page{}); return err }},
		{"grant a group", func(ctx context.Context) error {
			return s.People.Grant(ctx, api.Grant{Project: "app", Group: "makers", Role: access.Keeper})
		}},
		{"grant a person", func(ctx context.Context) error {
			return s.People.Grant(ctx, api.Grant{Project: "app", Person: "ada", Role: access.Reader})
		}},
		{"list grants", func(ctx context.Context) error { _, err := s.People.Grants(ctx, "app", api.Page{}); return err }},
		{"drop a grant", func(ctx context.Context) error {
			return s.People.DropGrant(ctx, api.Grant{Project: "app", Person: "ada", Role: access.Reader})
		}},
		{"who am I", func(ctx context.Context) error { _, err := s.People.Me(at(ctx)); return err }},
		{"issue a token", func(ctx context.Context) (err error) {
			token, err = s.People.IssueToken(at(ctx), api.NewToken{Name: "t", Kind: api.PersonToken, Project: "app"})
			return err
		}},
		{"list tokens", func(ctx context.Context) error { _, err := s.People.Tokens(at(ctx), 0, "", 9); return err }},
		{"revoke a token", func(ctx context.Context) error { return s.People.RevokeToken(at(ctx), token.ID) }},
		{"add a project", func(ctx context.Context) error {
			_, err := s.Projects.AddProject(ctx, api.NewProject{Name: "other", Remote: r.dir})
			return err
		}},
		{"a project", func(ctx context.Context) error { _, err := s.Projects.Project(ctx, "app"); return err }},
		{"list projects", func(ctx context.Context) error { _, err := s.Projects.Projects(at(ctx), api.Page{}); return err }},
		{"hold a project", func(ctx context.Context) error {
			_, err := s.Projects.Hold(ctx, "app", "ada", "a storm")
			return err
		}},
		{"resume it", func(ctx context.Context) error { _, err := s.Projects.Hold(ctx, "app", "ada", ""); return err }},
		{"limit it", func(ctx context.Context) error { _, err := s.Projects.LimitProject(ctx, "app", 3); return err }},
		{"allow it the network", func(ctx context.Context) error {
			_, err := s.Projects.AllowHostNetwork(ctx, "app", true)
			return err
		}},
		{"lend it", func(ctx context.Context) error {
			_, err := s.Projects.Lend(ctx, "app", api.Lendings{To: []string{"other"}})
			return err
		}},
		{"to whom it is lent", func(ctx context.Context) error { _, err := s.Projects.Lendings(ctx, "app"); return err }},
		{"its hook's key", func(ctx context.Context) error { _, err := s.Projects.HookKey(ctx, "app"); return err }},
		{"set a secret", func(ctx context.Context) error {
			_, err := s.Secrets.SetSecret(ctx, "app", "ada", "KEY", textSecret("the first value"))
			return err
		}},
		{"set it anew", func(ctx context.Context) error {
			_, err := s.Secrets.SetSecret(ctx, "app", "ada", "KEY", textSecret("the second value"))
			return err
		}},
		{"restore it", func(ctx context.Context) error {
			_, err := s.Secrets.RestoreSecret(ctx, "app", "ada", "KEY", 1)
			return err
		}},
		{"share it", func(ctx context.Context) error {
			with := []string{"other"}
			_, err := s.Secrets.ChangeSecret(ctx, "app", "KEY", api.SecretSettings{Shared: &with})
			return err
		}},
		{"list secrets", func(ctx context.Context) error { _, err := s.Secrets.Secrets(ctx, "app", api.Page{}); return err }},
		{"a secret", func(ctx context.Context) error { _, err := s.Secrets.Secret(ctx, "app", "KEY"); return err }},
		{"its revisions", func(ctx context.Context) error {
			_, err := s.Secrets.Revisions(ctx, "app", "KEY")
			return err
		}},
		{"start a run", func(ctx context.Context) (err error) {
			run, err = s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "trunk", Ref: "main"})
			return err
		}},
		{"a run", func(ctx context.Context) error { _, err := s.Report.Run(ctx, "app", run.Number); return err }},
		{"list runs", func(ctx context.Context) error {
			_, err := s.Report.Runs(ctx, "app", report.RunFilter{Limit: 9})
			return err
		}},
		{"the queue", func(ctx context.Context) error {
			_, err := s.Work.Queue(at(ctx), work.QueueFilter{Limit: 9})
			return err
		}},
		{"stop it", func(ctx context.Context) error { return s.Work.StopRun(ctx, "app", run.Number, "ada") }},
		{"start it again", func(ctx context.Context) (err error) {
			_, err = s.Intake.Restart(ctx, "app", run.Number, "ada", api.Restart{Failed: true})
			return err
		}},
		{"stop it again", func(ctx context.Context) error { return s.Work.StopRun(ctx, "app", run.Number, "ada") }},
		{"start all of it", func(ctx context.Context) error {
			again, err := s.Intake.Restart(ctx, "app", run.Number, "ada", api.Restart{})
			if err == nil {
				run = again
			}
			return err
		}},
		{"what changed since", func(ctx context.Context) error { _, err := s.Report.Since(ctx, "app", run.Number); return err }},
		{"stop that", func(ctx context.Context) error { return s.Work.StopRun(ctx, "app", run.Number, "ada") }},
		{"pipelines", func(ctx context.Context) error { _, err := s.Intake.Pipelines(ctx, "app", "main"); return err }},
		{"check a file", func(ctx context.Context) error {
			_, err := s.Intake.Check(ctx, "app", api.CheckRequest{Name: "trunk", Text: onMain, Ref: "main"})
			return err
		}},
		{"knowledge", func(ctx context.Context) error { _, err := s.Intake.Knowledge(ctx, "app"); return err }},
		{"schedules", func(ctx context.Context) error { _, err := s.Intake.Schedules(ctx, "app"); return err }},
		{"pushes", func(ctx context.Context) error {
			_, err := s.Intake.Pushes(ctx, "app", intake.PushFilter{Limit: 9})
			return err
		}},
		{"rules of keeping", func(ctx context.Context) error {
			return s.Report.SetRules(ctx, "app", keep.Rules{ArtifactDays: 3})
		}},
		{"what is kept", func(ctx context.Context) error { _, err := s.Report.Kept(ctx, "app"); return err }},
		{"things that are kept", func(ctx context.Context) error {
			_, err := s.Report.KeptItems(ctx, "app", report.KeptFilter{Limit: 9})
			return err
		}},
		{"runners", func(ctx context.Context) error { _, err := s.Work.Runners(ctx, api.Page{}); return err }},
		{"drop the secret", func(ctx context.Context) error { return s.Secrets.DropSecret(ctx, "app", "KEY") }},
		{"drop the group", func(ctx context.Context) error { return s.People.DropGroup(ctx, "makers") }},
		{"remove a project", func(ctx context.Context) error { return s.Projects.RemoveProject(ctx, "other") }},
	}
	for _, step := range steps {
		eachStatement(t, db, step.what, step.do)
	}
}

func TestWhatTheDatabaseRefusesWhoeverSignsInIsSaid(t *testing.T) {
	s, db := openFailing(t)
	made, err := s.People.AddPerson(asItself(t), api.NewPerson{Name: "ada"})
	require.NoError(t, err)
	var session string
	var token api.IssuedToken
	as := func(ctx context.Context) context.Context {
		p, err := s.Store.PersonByName(asItself(t), "ada")
		require.NoError(t, err)
		return ground.WithWho(ctx, ground.Who{ID: p.ID, Name: "ada", Kind: api.PersonToken})
	}
	for _, step := range []struct {
		what string
		do   func(ctx context.Context) error
	}{
		{"sign in", func(ctx context.Context) error {
			entry, err := s.People.SignIn(ctx, api.Credentials{Name: "ada", Password: made.Password}, "192.0.2.1", "")
			session = entry.Session
			return err
		}},
		{"a session", func(ctx context.Context) error { _, err := s.People.BySession(ctx, session); return err }},
		{"issue a token", func(ctx context.Context) (err error) {
			token, err = s.People.IssueToken(as(ctx), api.NewToken{Name: "t", Kind: api.PersonToken})
			return err
		}},
		{"a token", func(ctx context.Context) error { _, err := s.People.ByToken(ctx, token.Secret); return err }},
		{"change a password", func(ctx context.Context) error {
			return s.People.ChangePassword(as(ctx), api.OwnPassword{Old: made.Password, New: "another-password-1"})
		}},
		{"sign out", func(ctx context.Context) error { return s.People.SignOut(ctx, session) }},
		{"the audit trail", func(ctx context.Context) error {
			_, err := s.Audit(ctx, ground.AuditFilter{Limit: 9})
			return err
		}},
		{"the sweep", s.Report.Sweep},
		{"the first administrator", func(ctx context.Context) error {
			_, err := s.People.EnsureAdministrator(ctx)
			return err
		}},
	} {
		eachStatement(t, db, step.what, step.do)
	}
}

func TestWhatTheDatabaseRefusesARunnerIsSaid(t *testing.T) {
	s, db := openFailing(t)
	planned(t, s, twoJobs)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	now := time.Now().UnixMilli()
	running := []api.StepReport{{Step: 0, State: state.Running, At: now}}
	passed := []api.StepReport{{Step: 0, State: state.Passed, At: now, Tests: &api.TestReport{Passed: 1}, Note: "fine"}}
	content := "what is kept"
	var piece tree.Piece
	for _, step := range []struct {
		what string
		do   func(ctx context.Context) error
	}{
		{"prepared", func(ctx context.Context) error {
			return s.Work.Prepared(ctx, w.Attempt, api.Prepared{At: now, Caches: []api.CacheUse{{Name: "depot"}}})
		}},
		{"a step begins", func(ctx context.Context) error { return s.Work.ReportSteps(ctx, w.Attempt, running) }},
		{"a line", func(ctx context.Context) error {
			return s.Logs.AppendLog(ctx, w.Attempt, 1, logline.Encode([]logline.Line{{At: now, Text: "x"}}))
		}},
		{"a step ends", func(ctx context.Context) error { return s.Work.ReportSteps(ctx, w.Attempt, passed) }},
		{"an artifact", func(ctx context.Context) error {
			_, err := s.Work.KeepArtifact(ctx, w.Attempt, "apk", "out/a.apk", digestOf(content), strings.NewReader(content))
			return err
		}},
		{"a file handed on", func(ctx context.Context) error {
			return s.Work.HandOver(ctx, w.Attempt, "library", bytes.NewReader([]byte(content)))
		}},
		{"a piece", func(ctx context.Context) (err error) {
			piece, err = stores(ctx, s, w.Attempt, []byte(content))
			return err
		}},
		{"a cache", func(ctx context.Context) error { return savesTree(ctx, s, w.Attempt, "depot", "a", piece) }},
		{"a beat", func(ctx context.Context) error { _, err := s.Work.Beat(ctx, w.Attempt); return err }},
		{"its files again", func(ctx context.Context) error {
			content, err := s.Work.OpenHandover(ctx, w.Attempt, w.Job.Name, "library")
			if err == nil {
				err = content.Close()
			}
			return err
		}},
		{"its cache again", func(ctx context.Context) error {
			_, _, err := restores(ctx, s, w.Attempt, "depot", "a")
			return err
		}},
		{"where its pieces are", func(ctx context.Context) error {
			_, err := s.Caches.Known(ctx, w.Attempt, []chunk.ID{chunk.Sum([]byte(content))})
			return err
		}},
		{"its cache, for one's own machine", func(ctx context.Context) error {
			found, err := s.Caches.FindFor(ctx, "p", "main", wants("depot", "a"))
			if err != nil {
				return err
			}
			content, err := s.Caches.TreeFor(ctx, "p", found.ID)
			if err != nil {
				return err
			}
			defer content.Close()
			written, err := io.ReadAll(content)
			require.NoError(t, err)
			folder, _, err := tree.Decode(written)
			require.NoError(t, err)
			at := folder.Entries[1].Pieces[0].At
			part, err := s.Caches.PackFor(ctx, "p", found.ID, at.Pack, int64(at.Block.Start), int64(at.Block.Packed))
			if err == nil {
				err = part.Close()
			}
			return err
		}},
		{"its caches", func(ctx context.Context) error {
			_, err := s.Caches.Saved(ctx, "p", caches.Filter{Limit: 10})
			return err
		}},
		{"its artifact", func(ctx context.Context) error {
			var id record.ArtifactID
			require.NoError(t, db.QueryRow(`SELECT id FROM artifacts`).Scan(&id))
			_, content, err := s.Report.OpenArtifact(ctx, "p", 1, id)
			if err == nil {
				err = content.Close()
			}
			return err
		}},
		{"who holds it", func(ctx context.Context) error {
			_, err := s.Work.IsHolder(ctx, ground.Who{Kind: api.RunnerToken, Token: 1}, w.Attempt)
			return err
		}},
		{"the whole log", func(ctx context.Context) error {
			return s.Logs.WriteLog(ctx, "p", 1, w.Job.Name, 1, io.Discard)
		}},
		{"what waits", func(ctx context.Context) error { _, err := s.Work.Waiting(ctx, 1); return err }},
		{"the log", func(ctx context.Context) error {
			_, err := s.Logs.Log(ctx, "p", 1, logs.LogRequest{Job: w.Job.Name, Limit: 9})
			return err
		}},
		{"the end", func(ctx context.Context) error {
			return s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: state.Passed, At: now, Lines: 1})
		}},
	} {
		eachStatement(t, db, step.what, step.do)
	}
	another, _ := claim(t, s)
	require.NotNil(t, another)
	eachStatement(t, db, "handing back", func(ctx context.Context) error {
		return s.Work.HandBack(ctx, another.Attempt, api.HandBack{Reason: "the machine ends"})
	})
}

func TestAPushThatTheDatabaseRefusesIsPlannedLater(t *testing.T) {
	s, db := openFailing(t)
	r := addRepository(t, s)
	here := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	moving := func() int {
		var n int
		require.NoError(t, db.QueryRow(`SELECT count(*) FROM runs`).Scan(&n))
		return n
	}
	id := s.record(t, "refused", here)
	for n := 1; ; n++ {
		f := &failing{left: n}
		s.planEvent(t, context.WithValue(asItself(t), failingKey{}, f), id)
		if !f.done {
			break
		}
		// The commit of the last transaction may have been taken, though its answer was lost.
		require.LessOrEqual(t, moving(), 1)
		_, err := db.Exec(`UPDATE pushes SET planning_until = NULL`)
		require.NoError(t, err)
	}
	assert.Equal(t, 1, moving(), "planned once, whatever failed before")
	p, err := s.Store.PushByID(asItself(t), id)
	require.NoError(t, err)
	assert.NotNil(t, p.Planned)
	assert.Nil(t, p.SetAside, "a database that fails has not ended the server")
	of, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	eachStatement(t, db, "take in a push", func(ctx context.Context) error {
		_, err := s.Intake.Receive(ctx, of, "another", intake.Spooled{Push: &api.PushData{}}, 0)
		return err
	})
}
