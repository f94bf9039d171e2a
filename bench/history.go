package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
)

const (
	oldRuns     = 100_000
	oldCases    = 20_000 // each with oldResults results: two million
	oldResults  = 100
	oldLogs     = 1000
	logBytes    = 1 << 20 // of each
	pageTimes   = 25
	spansAtOnce = 20
)

// history measures what pages of all runs cost when there are many, and the search in their logs beside grep over the
// same text.
func history(ctx context.Context) error {
	y, err := openYard(ctx)
	if y != nil {
		defer y.close()
	}
	if err != nil {
		return err
	}
	began := time.Now()
	if err := y.fill(ctx, oldRuns); err != nil {
		return err
	}
	last, err := y.fillHistory(ctx)
	if err != nil {
		return err
	}
	fmt.Printf("%d runs, %d results of %d cases are there after %.0f s\n", oldRuns, oldCases*oldResults, oldCases,
		time.Since(began).Seconds())
	pages := []struct {
		name string
		ask  func() error
	}{
		{"all projects at a glance", func() error { _, err := y.cl.Overview(ctx, "yard"); return err }},
		{"times", func() error {
			_, err := y.cl.Times(ctx, "yard", api.TimesFilter{Pipeline: "old", Limit: 120})
			return err
		}},
		{"a step", func() error {
			_, err := y.cl.StepTimes(ctx, "yard", api.StepFilter{TimesFilter: api.TimesFilter{Pipeline: "old", Limit: 120},
				Job: "j1", Step: "step"})
			return err
		}},
		{"a run's times", func() error { _, err := y.cl.RunTimes(ctx, "yard", last); return err }},
		{"failures", func() error { _, err := y.cl.Failures(ctx, "yard", api.FailureFilter{Limit: 50}); return err }},
		{"usage", func() error { _, err := y.cl.Usage(ctx, "yard", api.UsageFilter{By: "job"}); return err }},
		{"usage of last month", func() error {
			month := time.Now().UTC().AddDate(0, 0, -time.Now().UTC().Day()).Format("2006-01")
			_, err := y.cl.Usage(ctx, "yard", api.UsageFilter{By: "job", Month: month})
			return err
		}},
	}
	for _, show := range []string{"failing", "flaky", "slow", "slower", "new", "gone", "all"} {
		pages = append(pages, struct {
			name string
			ask  func() error
		}{"tests: " + show, func() error {
			_, err := y.cl.Tests(ctx, "yard", api.TestFilter{Show: show, Limit: 50})
			return err
		}})
	}
	for _, p := range pages {
		var took []float64
		for range pageTimes {
			began := time.Now()
			if err := p.ask(); err != nil {
				return fmt.Errorf("%s: %w", p.name, err)
			}
			took = append(took, time.Since(began).Seconds()*1000)
		}
		fmt.Printf("  page's data, %-26s p50 %6.1f ms, p95 %6.1f ms (wanted 100)\n", p.name, at(took, 50), at(took, 95))
	}
	if err := y.writing(ctx); err != nil {
		return err
	}
	if err := y.searching(ctx); err != nil {
		return err
	}
	return y.comparing(ctx)
}

// fillHistory gives the old runs spans, and the project test cases with results. It tells the last run.
func (y *yard) fillHistory(ctx context.Context) (last record.RunNumber, err error) {
	for _, statement := range []string{
		`INSERT INTO places (project_id, pipeline, job, kind, name, machine)
			SELECT p.id, 'old', 'j' || k, kind, CASE kind WHEN 'step' THEN 'step' ELSE '' END, 'linux/amd64 linux'
			FROM projects p, generate_series(0, 2) AS k, unnest(ARRAY['job', 'step']) AS kind WHERE p.name = 'yard'`,
		`INSERT INTO spans (place_id, run, attempt, ended_at, took_ms, waited_ms, state)
			SELECT l.id, r.number, 1, r.finished_at, 4000 + (random() * 900)::int, 20, r.state
			FROM runs r JOIN places l ON l.project_id = r.project_id AND l.pipeline = r.pipeline WHERE r.pipeline = 'old'`,
		`INSERT INTO failures (project_id, print, run_id, attempt_id, job, step, cause, title, means, todo, own, said,
				failed_at) SELECT r.project_id, decode(md5((r.number % 400)::text), 'hex'), r.id, a.id, 'j1', 'step', 'types',
				'types that do not fit', '', '', false, 'error: no matching function ' || r.number % 400, r.finished_at
			FROM runs r JOIN attempts a ON a.run_id = r.id JOIN jobs j ON j.id = a.job_id AND j.name = 'j1'
			WHERE r.pipeline = 'old' AND r.state = 'failed'`,
		`INSERT INTO known_failures SELECT f.project_id, f.print, count(*), 'types', 'types that do not fit', 'j1', 'step',
				max(f.said), 'old', min(r.number), min(f.failed_at), max(r.number), max(f.failed_at)
			FROM failures f JOIN runs r ON r.id = f.run_id GROUP BY f.project_id, f.print`,
		fmt.Sprintf(`INSERT INTO cases (project_id, print, suite, name, pipeline, job, first_run, first_at, last_run,
				last_at, last_result, last_ms, usual_ms, runs, failures, failing_since, flaky)
			SELECT p.id, decode(md5(g::text), 'hex'), 'suite ' || g %% 200, 'case ' || g, 'old', 'j1', 1000001 + g %% 500, now(),
				1000000 + %d - g %% 3, now(), CASE WHEN g %% 50 = 0 THEN 'failed' ELSE 'passed' END, g %% 3000, g %% 2500, %d,
				g %% 7, CASE WHEN g %% 50 = 0 THEN 1000000 + g END, CASE WHEN g %% 90 = 0 THEN 3 ELSE 0 END
			FROM projects p, generate_series(1, %d) AS g WHERE p.name = 'yard'`, oldRuns, oldResults, oldCases),
		fmt.Sprintf(`INSERT INTO case_results (case_id, run, job_id, attempt, result, took_ms)
			SELECT c.id, r.number, j.id, 1, 'passed', c.last_ms FROM (SELECT id, number FROM runs WHERE pipeline = 'old'
				ORDER BY number DESC LIMIT %d) AS r JOIN jobs j ON j.run_id = r.id AND j.name = 'j1' CROSS JOIN cases c`,
			oldResults),
		`ANALYZE`,
	} {
		if _, err := y.db.ExecContext(ctx, statement); err != nil {
			return 0, fmt.Errorf("%.60s: %w", statement, err)
		}
	}
	if err := y.host.Service.History.SumUpDays(ctx); err != nil {
		return 0, err
	}
	err = y.db.QueryRowContext(ctx, `SELECT max(number) FROM runs WHERE pipeline = 'old' AND state = 'passed'`).Scan(&last)
	return last, err
}

// writing measures what the rows of history cost when an attempt of twenty steps ends.
func (y *yard) writing(ctx context.Context) error {
	var took []float64
	for range spansAtOnce {
		began := time.Now()
		_, err := y.db.ExecContext(ctx, `INSERT INTO spans (place_id, run, attempt, ended_at, took_ms, state)
			SELECT id, 1, 1, now(), 1, 'passed' FROM places WHERE pipeline = 'old'`)
		if err != nil {
			return err
		}
		took = append(took, time.Since(began).Seconds()*1000)
	}
	fmt.Printf("  rows of history by hand: p50 %.1f ms, p95 %.1f ms (wanted 5)\n", at(took, 50), at(took, 95))
	return nil
}

// searching looks for a line that is in one log of many, beside grep over the same lines in one plain file.
func (y *yard) searching(ctx context.Context) error {
	plain, err := os.Create(filepath.Join(y.home, "all.log"))
	if err != nil {
		return err
	}
	const filler = "clang --target=aarch64-linux-android21 -std=gnu11 -O2 -Wall -c -o out/obj/tide.o core/tide.c "
	defer plain.Close()
	rows, err := y.db.QueryContext(ctx, `SELECT id, run_id FROM attempts WHERE runner = 'old' ORDER BY id DESC
		LIMIT $1`, oldLogs)
	if err != nil {
		return err
	}
	type one struct{ id, run int64 }
	var list []one
	for rows.Next() {
		var o one
		if err := rows.Scan(&o.id, &o.run); err != nil {
			return err
		}
		list = append(list, o)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for i, o := range list {
		var b bytes.Buffer
		w, err := logline.NewFileWriter(&b)
		if err != nil {
			return err
		}
		n := int64(0)
		for size := 0; size < logBytes; n++ {
			text := fmt.Sprintf("%s%d %d", filler, i, n)
			if i == len(list)-1 && size > logBytes/2 && n%1000 == 0 {
				text = "error: needle in the haystack"
			}
			size += len(text) + 1
			if err := w.Append(logline.Line{N: n + 1, At: 1754000000000 + n, Text: text}); err != nil {
				return err
			}
			fmt.Fprintln(plain, text)
		}
		if err := w.Close(); err != nil {
			return err
		}
		if err := y.putLog(ctx, o.run, o.id, b.Bytes(), int(n)); err != nil {
			return err
		}
	}
	began, first, looked := time.Now(), 0.0, 0
	f := api.LogSearch{For: "Needle in the", Limit: 100}
	for {
		part, err := y.cl.SearchLogs(ctx, "yard", f)
		if err != nil {
			return err
		}
		if looked += part.Looked; len(part.Hits) > 0 && first == 0 {
			first = time.Since(began).Seconds() * 1000
		}
		if f.After = part.Next; part.Next == "" || looked >= oldLogs {
			break
		}
	}
	all := time.Since(began).Seconds() * 1000
	often := time.Now()
	if _, err := y.cl.SearchLogs(ctx, "yard", api.LogSearch{For: "aarch64", Limit: 100}); err != nil {
		return err
	}
	hit := time.Since(often).Seconds() * 1000
	began = time.Now()
	if err := y.grep(ctx, plain.Name()); err != nil {
		return err
	}
	fmt.Printf("  search in %d logs (%d MB): all in %.0f ms (wanted 2000), the only hit, in the oldest, after %.0f ms; "+
		"hits of a frequent word after %.0f ms (wanted 300); grep -i over the same in one plain file: %.0f ms\n", looked,
		oldLogs*logBytes>>20, all, first, hit, time.Since(began).Seconds()*1000)
	return nil
}

// grep looks through a file as somebody would by hand, who wants all of it: nothing is found, as in most of it.
func (y *yard) grep(ctx context.Context, file string) error {
	cmd := exec.CommandContext(ctx, "grep", "-c", "-i", "-F", "Needle in the", file)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("grep: %w: %s", err, out)
	}
	return nil
}

// at is the value below which some per cent of all are.
func at(values []float64, percent int) float64 {
	sorted := slices.Sorted(slices.Values(values))
	return sorted[min(len(sorted)-1, len(sorted)*percent/100)]
}
