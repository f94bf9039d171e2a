package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/hook"
	"gentlepiston.example/piston/host"
	"gentlepiston.example/piston/local"
	"gentlepiston.example/piston/service/people"
)

const (
	queueJobs    = 1000
	queueRunners = 100
	jobsPerRun   = 50
	planJobs     = 200
	planPushes   = 20
)

// yard is a service without runners, whose database can be filled with old runs.
type yard struct {
	home, repo string
	pg         *local.Postgres
	host       *host.Host
	db         *sql.DB
	cl         *client.Client
	token      string // a runner's
	hook       hook.Settings
}

func openYard(ctx context.Context) (*yard, error) {
	home, err := os.MkdirTemp("", "piston-bench-")
	if err != nil {
		return nil, err
	}
	y := &yard{home: home, repo: filepath.Join(home, "repo")}
	quiet := slog.New(slog.DiscardHandler)
	if y.pg, err = local.StartPostgres(ctx, home, quiet); err != nil {
		return y, err
	}
	if y.host, err = host.Start(ctx,
		host.Options{Home: home, Listen: "127.0.0.1:0", Database: y.pg.DSN(), Log: quiet}); err != nil {
		return y, err
	}
	if y.db, err = sql.Open("pgx", y.pg.DSN()); err != nil {
		return y, err
	}
	anonymous := client.New(y.host.Address, "")
	issued, err := anonymous.SignIn(ctx, api.Credentials{Name: people.Administrator, Password: y.host.FirstPassword},
		"bench")
	if err != nil {
		return y, err
	}
	y.cl = client.New(y.host.Address, issued.Secret)
	runner, err := y.cl.IssueToken(ctx, api.NewToken{Name: "bench", Kind: api.RunnerToken})
	if err != nil {
		return y, err
	}
	y.token = runner.Secret
	return y, y.makeRepository(ctx)
}

func (y *yard) close() {
	if y.db != nil {
		y.db.Close()
	}
	if y.host != nil {
		y.host.Stop()
	}
	if y.pg != nil {
		y.pg.Stop()
	}
	_ = local.RemoveFolder(y.home)
}

// makeRepository has a pipeline of many jobs that a push starts, and one that is started by hand.
func (y *yard) makeRepository(ctx context.Context) error {
	var pushed, byHand strings.Builder
	pushed.WriteString("supersede = \"none\"\n[trigger.push]\n")
	for i := range planJobs {
		after := ""
		if i >= 10 {
			after = fmt.Sprintf("after = [\"j%d\", \"j%d\"]\n", i-10, i/2)
		}
		fmt.Fprintf(&pushed, "[job.j%d]\n%s[[job.j%d.step]]\nscript = \"tools/build part-%d\"\n[[job.j%d.step]]\nscript = "+
			"\"make test\"\n", i, after, i, i, i)
	}
	for i := range jobsPerRun {
		fmt.Fprintf(&byHand, "[[job.j%d.step]]\nscript = \"true\"\n", i)
	}
	for name, text := range map[string]string{"piston/many.toml": pushed.String(), "piston/hand.toml": byHand.String(),
		"piston/raise.toml": "[[job.a.step]]\nraise = { by = \"patch\" }\n",
		"piston/sign.toml":  "[[job.a.step]]\nsign = { files = [\"*.apk\"], into = \"out\" }\n",
		"tools/build":       "#!/bin/sh\n", "Makefile": "test:\n"} {
		file := filepath.Join(y.repo, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte(text), 0o755); err != nil {
			return err
		}
	}
	for _, args := range [][]string{{"init", "--quiet", "--initial-branch=main"}, {"add", "-A"},
		{"-c", "user.name=Bench", "-c", "user.email=b@tidewick.example", "commit", "--quiet", "--message", "First"}} {
		cmd := exec.CommandContext(ctx, "git", args...)
		cmd.Dir = y.repo
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %s: %w: %s", args[0], err, out)
		}
	}
	if _, err := y.cl.AddProject(ctx, api.NewProject{Name: "yard", Remote: y.repo}); err != nil {
		return err
	}
	key, err := y.cl.HookKey(ctx, "yard")
	y.hook = hook.Settings{Address: key.Address, Key: key.Key}
	return err
}

// fill adds finished runs of three jobs, of three steps each, until there are so many.
func (y *yard) fill(ctx context.Context, total int) error {
	_, err := y.db.ExecContext(ctx,
		`WITH had AS (SELECT count(*) AS n, max(last_run) AS last FROM runs, projects WHERE runs.pipeline = 'old'),
		p AS (SELECT id FROM projects WHERE name = 'yard'),
		r AS (INSERT INTO runs (project_id, number, pipeline, trigger, branch, commit_id, subject, state, queued_at,
		started_at, finished_at)
			SELECT p.id, 1000000 + g, 'old', 'push', 'work/' || g % 50, md5(g::text), 'Change ' || g, CASE WHEN g % 5 = 0
			THEN 'failed' ELSE 'passed' END,
				now() - g * interval '1 minute', now() - g * interval '1 minute', now() - g * interval '1 minute'
			FROM p, had, generate_series(had.n + 1, $1::bigint) AS g RETURNING id, project_id, queued_at),
		j AS (INSERT INTO jobs (run_id, position, name, definition, state, ready)
			SELECT r.id, k, 'j' || k, '{"name":"j","machine":["linux"],"step":[{"name":"a","line":1}]}', 'passed', true FROM r,
			generate_series(0, 2) AS k RETURNING id, run_id),
		a AS (INSERT INTO attempts (job_id, run_id, project_id, number, labels, state, runner, queued_at, claimed_at,
		finished_at, log_moved, log_purged)
			SELECT j.id, j.run_id, r.project_id, 1, '{linux}', 'passed', 'old', r.queued_at, r.queued_at, r.queued_at, now(),
			true FROM j JOIN r ON r.id = j.run_id RETURNING id)
		INSERT INTO steps (attempt_id, position, name, state) SELECT a.id, s, 'step', 'passed' FROM a, generate_series(0,
		2) AS s`, total)
	if err == nil {
		_, err = y.db.ExecContext(ctx, `ANALYZE`)
	}
	return err
}

// plan measures from a signed report of a push to the run, with all its jobs, on the event stream.
func (y *yard) plan(ctx context.Context) (took []float64, err error) {
	out, err := exec.CommandContext(ctx, "git", "-C", y.repo, "rev-parse", "HEAD").Output()
	if err != nil {
		return nil, err
	}
	head, last := strings.TrimSpace(string(out)), record.RunNumber(0)
	for i := range planPushes {
		body, err := json.Marshal(api.PushEvent{Type: "push", Timestamp: time.Now(),
			Data: api.PushData{Updates: []plan.RefUpdate{{Ref: fmt.Sprintf("refs/heads/work/%d", i), Before: plan.NoCommit,
				After: head}}}})
		if err != nil {
			return nil, err
		}
		ready := make(chan struct{})
		seen := make(chan error, 1)
		go func() {
			err := y.cl.Stream(ctx, client.Topic{Project: "yard"}, "", func(e client.Event) error {
				if e.Change == nil {
					close(ready)
					return nil
				}
				if e.Change.State == state.Queued && e.Change.Run > last {
					last = e.Change.Run
					return errSeen
				}
				return nil
			})
			seen <- err
		}()
		<-ready
		began := time.Now()
		if _, err := hook.Send(ctx, y.hook, fmt.Sprintf("bench-%d-%d", time.Now().UnixNano(), i), body, 0); err != nil {
			return nil, err
		}
		if err := <-seen; !errors.Is(err, errSeen) {
			return nil, err
		}
		took = append(took, time.Since(began).Seconds()*1000)
		if err := y.cl.StopRun(ctx, "yard", last); err != nil {
			return nil, err
		}
	}
	return took, nil
}

// claims lets many runners do many jobs and measures how long each claim takes while there is work.
func (y *yard) claims(ctx context.Context) (took, bare []float64, err error) {
	for range queueJobs / jobsPerRun {
		if _, err := y.cl.StartRun(ctx, "yard", api.StartRun{Pipeline: "hand"}); err != nil {
			return nil, nil, err
		}
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, nil, err
	}
	var mu sync.Mutex
	given := map[record.AttemptID]bool{}
	var failed error
	var all sync.WaitGroup
	for n := range queueRunners {
		all.Go(func() {
			cl := client.New(y.host.Address, y.token)
			time.Sleep(time.Duration(n) * 20 * time.Millisecond)
			for {
				began := time.Now()
				claimed, err := cl.Claim(ctx,
					api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: fmt.Sprintf("bench-%d", n), Labels: []string{"linux"},
						Slots: 1, Recipient: identity.Recipient().String(), WaitMs: 1000})
				w, spent := claimed.Work, time.Since(began).Seconds()*1000
				if err == nil && w != nil {
					time.Sleep(time.Duration(1000+rand.IntN(2000)) * time.Millisecond) // the job's work
					_, err = cl.Finish(ctx, w.Attempt,
						api.Finish{State: state.Passed, At: time.Now().UnixMilli(), Caches: []api.CacheUse{}})
				}
				mu.Lock()
				if err == nil && w != nil {
					if given[w.Attempt] {
						err = fmt.Errorf("attempt %d was given twice", w.Attempt)
					}
					given[w.Attempt] = true
					took = append(took, spent)
				}
				failed = errors.Join(failed, err)
				mu.Unlock()
				if err != nil || w == nil {
					return
				}
			}
		})
	}
	all.Wait()
	if failed == nil && len(given) != queueJobs {
		failed = fmt.Errorf("%d of %d jobs were handed out", len(given), queueJobs)
	}
	if failed != nil {
		return nil, nil, failed
	}
	bare, err = y.bareClaims(ctx)
	return took, bare, err
}

// bareClaims is what somebody would write by hand: one statement that takes the oldest row of a table.
func (y *yard) bareClaims(ctx context.Context) (took []float64, err error) {
	if _, err := y.db.ExecContext(ctx,
		`DROP TABLE IF EXISTS bench_queue; CREATE TABLE bench_queue AS SELECT g AS id, 'queued' AS state
			FROM generate_series(1, 1000) AS g; CREATE INDEX ON bench_queue (id) WHERE state = 'queued'`); err != nil {
		return nil, err
	}
	for range 300 {
		began := time.Now()
		if _, err := y.db.ExecContext(ctx,
			`UPDATE bench_queue SET state = 'running' WHERE id = (SELECT id FROM bench_queue WHERE state = 'queued' ORDER BY id
				LIMIT 1 FOR UPDATE SKIP LOCKED)`); err != nil {
			return nil, err
		}
		took = append(took, time.Since(began).Seconds()*1000)
	}
	return took, nil
}

// queue measures planning and claims with a thousand old runs, and with a hundred thousand.
func queue(ctx context.Context) error {
	y, err := openYard(ctx)
	if y != nil {
		defer y.close()
	}
	if err != nil {
		return err
	}
	for _, old := range []int{1_000, 100_000} {
		if err := y.fill(ctx, old); err != nil {
			return err
		}
		fmt.Printf("\nwith %d old runs\n", old)
		planned, err := y.plan(ctx)
		if err != nil {
			return fmt.Errorf("planning: %w", err)
		}
		report(fmt.Sprintf("signed push → run of %d jobs planned and announced", planJobs), planned, "ms")
		fmt.Println("  wanted: p95 at most 50 ms")
		took, bare, err := y.claims(ctx)
		if err != nil {
			return fmt.Errorf("claims: %w", err)
		}
		report(fmt.Sprintf("claims, %d jobs, %d runners, each job 1 to 3 s", queueJobs, queueRunners), took, "ms")
		report("one bare UPDATE … SKIP LOCKED, by hand and alone", bare, "ms")
		fmt.Printf("  a claim, with its decision, run, job and event, costs %.0f times the bare statement; wanted: p95 at "+
			"most 20 ms\n", median(took)/median(bare))
	}
	return nil
}
