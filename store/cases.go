package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Case is a test case and how it stands. Runs are numbers of its project's.
type Case struct {
	ID           record.CaseID     `db:"id"`
	Suite        string            `db:"suite"`
	Name         string            `db:"name"`
	Pipeline     string            `db:"pipeline"` // where it ran last
	Job          string            `db:"job"`
	FirstRun     record.RunNumber  `db:"first_run"`
	First        time.Time         `db:"first_at"`
	LastRun      record.RunNumber  `db:"last_run"`
	Last         time.Time         `db:"last_at"`
	Result       string            `db:"last_result"`
	TookMs       int64             `db:"last_ms"`
	UsualMs      int64             `db:"usual_ms"` // -1 while it has never passed
	Runs         int64             `db:"runs"`
	Failures     int64             `db:"failures"`
	FailingSince *record.RunNumber `db:"failing_since"`
	Flaky        int64             `db:"flaky"` // contents of which it passed and failed
	FlakyRun     record.RunNumber  `db:"flaky_run"`
	AsideReason  *string           `db:"reason"`
	AsideUntil   *time.Time        `db:"until"`
	AsideBy      *string           `db:"aside_by"`
}

const caseColumns = `c.id, c.suite, c.name, c.pipeline, c.job, c.first_run, c.first_at, c.last_run, c.last_at,
	c.last_result, c.last_ms, c.usual_ms, c.runs, c.failures, c.failing_since, c.flaky, c.flaky_run, a.reason, a.until,
	a.aside_by FROM cases c LEFT JOIN asides a ON a.case_id = c.id AND a.until > now()`

// NewResult is what came of a case in an attempt.
type NewResult struct {
	Print   []byte `json:"print"`
	Suite   string `json:"suite"`
	Name    string `json:"name"`
	Result  string `json:"result"`
	TookMs  int64  `json:"took"`
	Message string `json:"message"`
}

// Both is the result of a case that passed and failed in one report.
const Both = "both"

// given is what came of cases, as rows of another statement: one for each case.
const given = `WITH n AS (SELECT decode(print, 'base64') AS print, max(suite) AS suite, max(name) AS name,
		CASE WHEN bool_or(result = 'both') OR bool_or(result = 'failed') AND bool_or(result = 'passed') THEN 'both'
			ELSE min(result) END AS result, max(took) AS took, max(message) AS message
	FROM jsonb_to_recordset($1) AS x(print text, suite text, name text, result text, took bigint, message text)
	GROUP BY print)`

// AddResults writes what came of cases in an attempt of a run's job, each case once, and how they stand with it.
// Telling it again changes nothing. Cases are always taken in the same order, so that two who do it at once wait for
// each other.
func (q Q) AddResults(ctx context.Context, run Run, job Job, attempt int, list []NewResult) error {
	var added []struct {
		Case  record.CaseID `db:"case_id"`
		Fresh bool          `db:"fresh"`
	}
	err := q.list(ctx, &added, given+`, c AS (
			INSERT INTO cases (project_id, print, suite, name, pipeline, job, first_run, first_at, last_run, last_at,
				last_result, last_ms)
			SELECT $2, print, suite, name, $3, $4, $5, now(), $5, now(), result, took FROM n ORDER BY print
			ON CONFLICT (project_id, print) DO UPDATE SET suite = cases.suite RETURNING id, print)
		INSERT INTO case_results AS r (case_id, run, job_id, attempt, result, took_ms, message)
		SELECT c.id, $5, $6, $7, n.result, n.took, n.message FROM n JOIN c USING (print)
		ON CONFLICT (case_id, run, job_id, attempt) DO UPDATE SET result = CASE
			WHEN r.result IN ('passed', 'failed', 'both') AND excluded.result IN ('passed', 'failed', 'both')
				AND r.result <> excluded.result THEN 'both'
			WHEN excluded.result = 'skipped' THEN r.result ELSE excluded.result END,
			message = CASE WHEN excluded.message = '' THEN r.message ELSE excluded.message END
		RETURNING case_id, xmax = 0 AS fresh`,
		asJSON(list), run.ProjectID, run.Pipeline, job.Name, int64(run.Number), job.ID, attempt)
	if err != nil {
		return err
	}
	fresh, all := []record.CaseID{}, []record.CaseID{}
	for _, a := range added {
		all = append(all, a.Case)
		if a.Fresh {
			fresh = append(fresh, a.Case)
		}
	}
	return q.do(ctx, nil, `UPDATE cases c SET pipeline = $3, job = $4, last_run = greatest(c.last_run, $5),
			last_at = now(),
			last_result = CASE WHEN $5 < c.last_run THEN c.last_result ELSE n.result END, last_ms = n.took_ms,
			usual_ms = CASE WHEN n.result <> 'passed' OR NOT n.fresh THEN c.usual_ms WHEN c.usual_ms < 0 THEN n.took_ms
				ELSE (c.usual_ms * 9 + n.took_ms) / 10 END,
			runs = c.runs + n.fresh::int, failures = c.failures + (n.fresh AND n.result IN ('failed', 'both'))::int,
			failing_since = CASE WHEN $5 < c.last_run THEN c.failing_since
				WHEN n.result = 'failed' THEN coalesce(c.failing_since, $5)
				WHEN n.result = 'skipped' THEN c.failing_since END,
			flaky = c.flaky + (n.flaked AND c.flaky_commit <> $6)::int,
			flaky_run = CASE WHEN n.flaked THEN $5 ELSE c.flaky_run END,
			flaky_commit = CASE WHEN n.flaked THEN $6 ELSE c.flaky_commit END
		FROM (SELECT r.case_id, r.result, r.took_ms, r.case_id = ANY ($8) AS fresh, r.result = 'both' OR
				r.result IN ('passed', 'failed') AND EXISTS (SELECT FROM case_results o JOIN runs u ON u.project_id = $1
					AND u.number = o.run JOIN jobs j ON j.id = o.job_id
				WHERE o.case_id = r.case_id AND o.result IN ('passed', 'failed', 'both') AND o.result <> r.result
					AND u.commit_id = $6 AND u.pipeline = $3 AND j.name = $4) AS flaked
			FROM case_results r WHERE r.case_id = ANY ($7) AND r.run = $5 AND r.job_id = $2 AND r.attempt = $9) AS n
		WHERE c.id = n.case_id`, run.ProjectID, job.ID, run.Pipeline, job.Name, int64(run.Number), run.Commit, all, fresh,
		attempt)
}

// CaseOrder is which cases a list has, and in which order.
type CaseOrder string

// The orders.
const (
	FailingCases CaseOrder = "failing" // those that fail now, the latest first
	FlakyCases   CaseOrder = "flaky"   // those that passed and failed on the same content
	SlowCases    CaseOrder = "slow"    // those that take longest first
	SlowerCases  CaseOrder = "slower"  // those that take longer than they did
	NewCases     CaseOrder = "new"     // the latest first
	GoneCases    CaseOrder = "gone"    // those that did not run in the last passed run of their job
	AsideCases   CaseOrder = "aside"   // those that are set aside
	AllCases     CaseOrder = "all"     // by suite and name
)

// ordered are the ends of the queries of each order.
var ordered = map[CaseOrder]string{
	FailingCases: `AND c.failing_since IS NOT NULL ORDER BY c.failing_since DESC, c.id`,
	FlakyCases:   `AND c.flaky > 0 ORDER BY c.flaky DESC, c.flaky_run DESC, c.id`,
	SlowCases:    `ORDER BY c.last_ms DESC, c.id`,
	SlowerCases: `AND c.usual_ms >= 0 AND c.last_result = 'passed' AND c.last_ms > c.usual_ms * 3 / 2
		AND c.last_ms - c.usual_ms > 20 ORDER BY c.last_ms - c.usual_ms DESC, c.id`,
	NewCases: `AND c.first_run > (SELECT min(first_run) FROM cases WHERE project_id = $1) ORDER BY c.first_run DESC, c.id`,
	GoneCases: `AND (c.pipeline, c.job, c.last_run) IN (SELECT l.pipeline, l.job, l.last_run FROM last l JOIN passed p
			USING (pipeline, job) WHERE l.last_run < p.last_run) ORDER BY c.last_run DESC, c.id`,
	AsideCases: `AND a.case_id IS NOT NULL ORDER BY a.until, c.id`,
	AllCases:   `ORDER BY c.suite, c.name, c.id`,
}

// CaseFilter says which cases a list has.
type CaseFilter struct {
	Order    CaseOrder
	Contains string // in suite or name, in capitals or not
	Skip     int
	Limit    int
}

// Cases lists test cases of a project.
func (q Q) Cases(ctx context.Context, project record.ProjectID, f CaseFilter) (list []Case, err error) {
	err = q.list(ctx, &list, `WITH last AS (SELECT DISTINCT o.pipeline, o.job, o.last_run FROM cases o
			WHERE o.project_id = $1), passed AS (SELECT l.pipeline, l.job, max(l.last_run) AS last_run FROM last l
			JOIN runs r ON r.project_id = $1 AND r.number = l.last_run WHERE r.state = 'passed' GROUP BY l.pipeline, l.job)
		SELECT `+caseColumns+` WHERE c.project_id = $1
		AND ($2 = '' OR strpos(lower(c.suite || ' ' || c.name), lower($2)) > 0) `+ordered[f.Order]+` OFFSET $3 LIMIT $4`,
		project, f.Contains, f.Skip, f.Limit)
	return list, err
}

// CaseCounts counts a project's cases.
type CaseCounts struct {
	All     int `db:"all_cases"`
	Failing int `db:"failing"`
	Flaky   int `db:"flaky"`
	Aside   int `db:"aside"`
}

// CountCases counts a project's cases.
func (q Q) CountCases(ctx context.Context, project record.ProjectID) (n CaseCounts, err error) {
	err = q.get(ctx, &n, `SELECT count(*) AS all_cases, count(c.failing_since) AS failing,
			count(*) FILTER (WHERE c.flaky > 0) AS flaky, count(a.case_id) AS aside
		FROM cases c LEFT JOIN asides a ON a.case_id = c.id AND a.until > now() WHERE c.project_id = $1`, project)
	return n, err
}

// CaseByID finds one of a project.
func (q Q) CaseByID(ctx context.Context, project record.ProjectID, id record.CaseID) (c Case, err error) {
	err = q.get(ctx, &c, `SELECT `+caseColumns+` WHERE c.project_id = $1 AND c.id = $2`, project, id)
	return c, err
}

// Result is what came of a case once.
type Result struct {
	Run     record.RunNumber `db:"run"`
	Job     string           `db:"job"`
	Attempt int              `db:"attempt"`
	Result  string           `db:"result"`
	TookMs  int64            `db:"took_ms"`
	Message string           `db:"message"`
	Branch  string           `db:"branch"`
	Commit  string           `db:"commit_id"`
	Subject string           `db:"subject"`
	Author  string           `db:"author"`
	At      time.Time        `db:"queued_at"`
}

// Results lists what came of a case, the latest first.
func (q Q) Results(ctx context.Context, project record.ProjectID, id record.CaseID, limit int) (list []Result,
	err error) {
	err = q.list(ctx, &list, `SELECT o.run, j.name AS job, o.attempt, o.result, o.took_ms, o.message, r.branch,
			r.commit_id, r.subject, r.author, r.queued_at
		FROM case_results o JOIN jobs j ON j.id = o.job_id JOIN runs r ON r.project_id = $1 AND r.number = o.run
		WHERE o.case_id = $2 ORDER BY o.run DESC, j.name, o.attempt DESC LIMIT $3`, project, id, limit)
	return list, err
}

// AsideCase has a case's failure fail nothing until a time.
func (q Q) AsideCase(ctx context.Context, id record.CaseID, reason, by string, until time.Time) error {
	return q.do(ctx, nil, `INSERT INTO asides (case_id, reason, until, aside_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (case_id) DO UPDATE SET reason = $2, until = $3, aside_by = $4, aside_at = now()`, id, reason, until, by)
}

// EndAside ends that a case is set aside.
func (q Q) EndAside(ctx context.Context, id record.CaseID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM asides WHERE case_id = $1 AND until > now()`, id)
}

// AsideOf lists which of some cases, by their prints, are set aside.
func (q Q) AsideOf(ctx context.Context, project record.ProjectID, prints [][]byte) (list []Case, err error) {
	err = q.list(ctx, &list, `SELECT `+caseColumns+` WHERE c.project_id = $1 AND c.print = ANY ($2)
		AND a.case_id IS NOT NULL ORDER BY c.id`, project, prints)
	return list, err
}
