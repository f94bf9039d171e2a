package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// FailureSeen is what failed in an attempt, and why.
type FailureSeen struct {
	AttemptID record.AttemptID `db:"attempt_id"`
	Job       string           `db:"job"`
	Step      string           `db:"step"`
	Print     []byte           `db:"print"`
	Cause     string           `db:"cause"` // its name; "" when it is not known
	Title     string           `db:"title"`
	Means     string           `db:"means"`
	Do        string           `db:"todo"`
	Own       bool             `db:"own"`
	Said      string           `db:"said"`
}

// AddFailure writes what failed in an attempt of a run, and that it was seen once more; an attempt counts once,
// and one of a search for the first bad change not at all.
func (q Q) AddFailure(ctx context.Context, run Run, f FailureSeen) error {
	return q.do(ctx, nil, `WITH added AS (INSERT INTO failures (project_id, print, run_id, attempt_id, job, step, cause,
			title, means, todo, own, said) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
			ON CONFLICT (attempt_id) DO NOTHING RETURNING project_id, print, job, step, cause, title, said, failed_at)
		INSERT INTO known_failures AS k (project_id, print, times, cause, title, job, step, said, pipeline, first_run,
			first_at, last_run, last_at)
		SELECT project_id, print, 1, cause, title, job, step, said, $13, $14, failed_at, $14, failed_at FROM added
		WHERE $15 = 0
		ON CONFLICT (project_id, print) DO UPDATE SET times = k.times + (k.last_run <> excluded.last_run)::int,
			cause = excluded.cause, title = excluded.title, job = excluded.job, step = excluded.step, said = excluded.said,
			pipeline = excluded.pipeline, last_run = greatest(k.last_run, excluded.last_run), last_at = excluded.last_at`,
		run.ProjectID, f.Print, run.ID, f.AttemptID, f.Job, f.Step, f.Cause, f.Title, f.Means, f.Do, f.Own, f.Said,
		run.Pipeline, int64(run.Number), run.Bisection)
}

// FailureOf finds what failed in an attempt.
func (q Q) FailureOf(ctx context.Context, attempt record.AttemptID) (f FailureSeen, err error) {
	err = q.get(ctx, &f, `SELECT attempt_id, job, step, print, cause, title, means, todo, own, said FROM failures
		WHERE attempt_id = $1`, attempt)
	return f, err
}

// Recurrence is how often a failure was seen, and when.
type Recurrence struct {
	Print    []byte           `db:"print"`
	Times    int              `db:"times"` // runs
	Cause    string           `db:"cause"`
	Title    string           `db:"title"`
	Job      string           `db:"job"`
	Step     string           `db:"step"`
	Said     string           `db:"said"`
	Pipeline string           `db:"pipeline"`
	FirstRun record.RunNumber `db:"first_run"`
	First    time.Time        `db:"first_at"`
	LastRun  record.RunNumber `db:"last_run"`
	Last     time.Time        `db:"last_at"`
}

const recurrenceColumns = `f.print, count(DISTINCT f.run_id) AS times,
	(array_agg(f.cause ORDER BY f.id DESC))[1] AS cause, (array_agg(f.title ORDER BY f.id DESC))[1] AS title,
	(array_agg(f.job ORDER BY f.id DESC))[1] AS job, (array_agg(f.step ORDER BY f.id DESC))[1] AS step,
	(array_agg(f.said ORDER BY f.id DESC))[1] AS said, (array_agg(r.pipeline ORDER BY f.id DESC))[1] AS pipeline,
	min(r.number) AS first_run, min(f.failed_at) AS first_at, max(r.number) AS last_run, max(f.failed_at) AS last_at
	FROM failures f JOIN runs r ON r.id = f.run_id`

// FailureSeenBefore tells how often a failure was seen in runs before one.
func (q Q) FailureSeenBefore(ctx context.Context, project record.ProjectID, print []byte, run record.RunNumber) (
	r Recurrence, err error) {
	err = q.get(ctx, &r, `SELECT `+recurrenceColumns+` WHERE f.project_id = $1 AND f.print = $2 AND r.number < $3
		AND r.bisection = 0
		GROUP BY f.print`, project, print, run)
	return r, err
}

// FailureEnd is the run with which a failure went away last.
type FailureEnd struct {
	Print   []byte           `db:"print"`
	Number  record.RunNumber `db:"number"`
	Commit  string           `db:"commit_id"`
	Subject string           `db:"subject"`
	Author  string           `db:"author"`
}

// lookedBackAt is how many of the times a failure was seen are looked at for one after which it went away.
const lookedBackAt = 100

// FailureEnds finds the runs, before one, with which failures went away last: each the first of its pipeline and
// branch that passed after it had been seen. Of a failure that did not go away after any of the last hundred times
// there is none.
func (q Q) FailureEnds(ctx context.Context, project record.ProjectID, prints [][]byte, before record.RunNumber) (
	list []FailureEnd, err error) {
	err = q.list(ctx, &list, `SELECT p.print, g.number, g.commit_id, g.subject, g.author
		FROM unnest($2::bytea[]) AS p(print)
		CROSS JOIN LATERAL (SELECT g.number, g.commit_id, g.subject, g.author
			FROM (SELECT f.id, o.pipeline, o.branch, o.number FROM failures f JOIN runs o ON o.id = f.run_id
				WHERE f.project_id = $1 AND f.print = p.print AND o.bisection = 0 AND o.number < $3
				ORDER BY f.id DESC LIMIT $4) AS f
			JOIN LATERAL (SELECT g.number, g.commit_id, g.subject, g.author FROM runs g WHERE g.project_id = $1
				AND g.pipeline = f.pipeline AND g.branch = f.branch AND g.number > f.number AND g.number < $3
				AND g.state = 'passed' AND g.bisection = 0 ORDER BY g.number LIMIT 1) AS g ON true
			ORDER BY f.id DESC LIMIT 1) AS g`, project, prints, before, lookedBackAt)
	return list, err
}

// FailureFilter narrows a list of failures.
type FailureFilter struct {
	Contains string // in what was said, title, job or step
	Cause    string
	Skip     int
	Limit    int
}

// Failures lists what failed in a project, each failure once, the latest first.
func (q Q) Failures(ctx context.Context, project record.ProjectID, f FailureFilter) (list []Recurrence, err error) {
	err = q.list(ctx, &list, `SELECT `+columnsOf[Recurrence]("k")+` FROM known_failures k WHERE k.project_id = $1
		AND ($2 = '' OR strpos(lower(k.said || ' ' || k.title || ' ' || k.job || ' ' || k.step), lower($2)) > 0)
		AND ($5 = '' OR k.cause = $5)
		ORDER BY k.last_at DESC, k.print OFFSET $3 LIMIT $4`, project, f.Contains, f.Skip, f.Limit, f.Cause)
	return list, err
}
