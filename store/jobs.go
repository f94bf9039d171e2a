package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
)

// Job is a job of a run.
type Job struct {
	ID         record.JobID          `db:"id"`
	RunID      record.RunID          `db:"run_id"`
	Position   int                   `db:"position"`
	Name       string                `db:"name"`
	Definition JSON[*definition.Job] `db:"definition"`
	State      state.State           `db:"state"`
	Reason     string                `db:"reason"`
	Ready      bool                  `db:"ready"`
}

// AddJobs adds a run's jobs and sets their ids.
func (q Q) AddJobs(ctx context.Context, jobs []Job) error {
	type row struct {
		Run        record.RunID    `json:"run"`
		Position   int             `json:"position"`
		Name       string          `json:"name"`
		Definition *definition.Job `json:"definition"`
		State      state.State     `json:"state"`
		Reason     string          `json:"reason"`
		Ready      bool            `json:"ready"`
	}
	rows, at := make([]row, len(jobs)), make(map[string]int, len(jobs))
	for i, j := range jobs {
		rows[i] = row{j.RunID, j.Position, j.Name, j.Definition.V, j.State, j.Reason, j.Ready}
		at[j.Name] = i
	}
	var added []struct {
		ID   record.JobID `db:"id"`
		Name string       `db:"name"`
	}
	err := q.list(ctx, &added, `INSERT INTO jobs (run_id, position, name, definition, state, reason, ready)
		SELECT run, position, name, definition, state, reason, ready
			FROM jsonb_to_recordset($1) AS r(run bigint, position int, name text, definition jsonb, state text, reason text,
			ready boolean)
		RETURNING id, name`, asJSON(rows))
	for _, a := range added {
		jobs[at[a.Name]].ID = a.ID
	}
	return err
}

// Jobs lists a run's jobs in their order.
func (q Q) Jobs(ctx context.Context, run record.RunID) (list []Job, err error) {
	err = q.list(ctx, &list, `SELECT id, run_id, position, name, definition, state, reason, ready FROM jobs
		WHERE run_id = $1 ORDER BY position`, run)
	return list, err
}

// JobsToSettle is Jobs with only those definitions whole that a decision still depends on: of jobs that wait for
// others. Of the rest they say no more than what counts for those.
func (q Q) JobsToSettle(ctx context.Context, run record.RunID) (list []Job, err error) {
	err = q.list(ctx, &list, `SELECT id, run_id, position, name, state, reason, ready,
			CASE WHEN state = 'queued' AND NOT ready THEN definition
				ELSE jsonb_build_object('name', name, 'advisory', definition -> 'advisory', 'of',
				definition -> 'of') END AS definition
		FROM jobs WHERE run_id = $1 ORDER BY position`, run)
	return list, err
}

// SetJob writes where a job stands.
func (q Q) SetJob(ctx context.Context, id record.JobID, s state.State, reason string, ready bool) error {
	return q.do(ctx, ErrNotFound, `UPDATE jobs SET state = $2, reason = $3, ready = $4 WHERE id = $1`, id, string(s),
		reason, ready)
}

// SettleJobs writes where jobs stand, with their steps' conditions answered.
func (q Q) SettleJobs(ctx context.Context, jobs []Job) error {
	if len(jobs) == 0 {
		return nil
	}
	type row struct {
		ID         record.JobID    `json:"id"`
		Definition *definition.Job `json:"definition"`
		State      state.State     `json:"state"`
		Reason     string          `json:"reason"`
		Ready      bool            `json:"ready"`
	}
	rows := make([]row, len(jobs))
	for i, j := range jobs {
		rows[i] = row{j.ID, j.Definition.V, j.State, j.Reason, j.Ready}
	}
	return q.do(ctx, nil, `UPDATE jobs SET definition = r.definition, state = r.state, reason = r.reason, ready = r.ready
		FROM jsonb_to_recordset($1) AS r(id bigint, definition jsonb, state text, reason text, ready boolean)
		WHERE jobs.id = r.id`, asJSON(rows))
}

// JobByID finds a job.
func (q Q) JobByID(ctx context.Context, id record.JobID) (j Job, err error) {
	err = q.get(ctx, &j, `SELECT id, run_id, position, name, definition, state, reason, ready FROM jobs WHERE id = $1`, id)
	return j, err
}

// FailedStep is the first step of an attempt that failed or ran out of time; ErrNotFound when there is none. Steps
// whose failure is only reported are left out.
func (q Q) FailedStep(ctx context.Context, attempt record.AttemptID) (s Step, err error) {
	err = q.get(ctx, &s, `SELECT `+stepColumns+
		` FROM steps s JOIN attempts a ON a.id = s.attempt_id JOIN jobs j ON j.id = a.job_id
		WHERE s.attempt_id = $1 AND s.state IN ('failed', 'timed-out')
		AND NOT coalesce((j.definition -> 'step' -> s.position ->> 'advisory')::boolean, false) ORDER BY s.position LIMIT 1`,
		attempt)
	return s, err
}

// Step is one step of an attempt.
type Step struct {
	AttemptID record.AttemptID     `db:"attempt_id"`
	Position  int                  `db:"position"`
	Name      string               `db:"name"`
	State     state.State          `db:"state"`
	Reason    string               `db:"reason"`
	ExitCode  *int                 `db:"exit_code"`
	Started   *time.Time           `db:"started_at"`
	Finished  *time.Time           `db:"finished_at"`
	FirstLine int64                `db:"first_line"`
	LastLine  int64                `db:"last_line"`
	Excerpt   JSON[[]logline.Line] `db:"excerpt"`
	Tests     JSON[*TestReport]    `db:"tests"`
	Note      string               `db:"note"`
	Reuse     JSON[*Reuse]         `db:"reuse"`
}

// Reuse tells why a step was reused, or was not.
type Reuse struct {
	Imprint string           `json:"imprint"`
	Run     record.RunNumber `json:"run,omitempty"`
	TookMs  int64            `json:"took_ms,omitempty"`
	Differs []string         `json:"differs,omitempty"`
	More    int              `json:"more,omitempty"`
	Unlike  string           `json:"unlike,omitempty"`
}

// TestReport is what a step's test reports came to.
type TestReport struct {
	Passed   int               `json:"passed"`
	Failed   int               `json:"failed"`
	Skipped  int               `json:"skipped"`
	Seconds  float64           `json:"seconds"`
	Failures []testreport.Case `json:"failures"`
}

var stepColumns = columnsOf[Step]("s")

// RunParts are what a run is made of: its jobs, their attempts, and the steps of those, each in order.
type RunParts struct {
	Jobs     []Job
	Attempts []Attempt
	Steps    []Step
}

// PartsOf lists them.
func (q Q) PartsOf(ctx context.Context, run record.RunID) (p RunParts, err error) {
	if p.Jobs, err = q.Jobs(ctx, run); err != nil {
		return p, err
	}
	if p.Attempts, err = q.Attempts(ctx, run); err != nil {
		return p, err
	}
	p.Steps, err = q.StepsOfRun(ctx, run)
	return p, err
}

// StepsOfRun lists the steps of all attempts of a run, in order.
func (q Q) StepsOfRun(ctx context.Context, run record.RunID) (list []Step, err error) {
	err = q.list(ctx, &list, `SELECT `+stepColumns+` FROM steps s JOIN attempts a ON a.id = s.attempt_id
		WHERE a.run_id = $1 ORDER BY s.attempt_id, s.position`, run)
	return list, err
}

// StepsOfAttempt lists the steps of one attempt, in order.
func (q Q) StepsOfAttempt(ctx context.Context, attempt record.AttemptID) (list []Step, err error) {
	err = q.list(ctx, &list, `SELECT `+stepColumns+` FROM steps s WHERE s.attempt_id = $1 ORDER BY s.position`, attempt)
	return list, err
}

// SetStep writes what a runner tells of a step. A step that is over stays as it ended.
func (q Q) SetStep(ctx context.Context, s Step, at time.Time) error {
	if s.State == state.Running {
		return q.do(ctx, nil, `UPDATE steps SET state = 'running', started_at = $3, first_line = $4
			WHERE attempt_id = $1 AND position = $2 AND state = 'queued'`, s.AttemptID, s.Position, at, s.FirstLine)
	}
	return q.do(ctx, nil, `UPDATE steps SET state = $3, reason = $4, exit_code = $5, finished_at = $6, first_line = $7,
		last_line = $8, excerpt = $9, tests = $10, note = $11, reuse = $12
		WHERE attempt_id = $1 AND position = $2 AND state IN ('queued', 'running')`, s.AttemptID, s.Position,
		string(s.State), s.Reason, s.ExitCode, at, s.FirstLine, s.LastLine, asJSON(s.Excerpt.V), asJSON(s.Tests.V),
		s.Note, asJSON(s.Reuse.V))
}

// EndSteps gives the steps of an attempt that are not over a final state.
func (q Q) EndSteps(ctx context.Context, attempt record.AttemptID, running, queued state.State, at time.Time) error {
	return q.do(ctx, nil, `UPDATE steps SET state = CASE WHEN state = 'running' THEN $2 ELSE $3 END,
		finished_at = CASE WHEN state = 'running' THEN $4::timestamptz END
		WHERE attempt_id = $1 AND state IN ('queued', 'running')`, attempt, string(running), string(queued), at)
}

// TestCases counts the test cases of runs, in the latest attempts of their jobs.
func (q Q) TestCases(ctx context.Context, runs []record.RunID) (map[record.RunID]int, error) {
	var rows []struct {
		Run record.RunID `db:"run_id"`
		N   int          `db:"n"`
	}
	err := q.list(ctx, &rows,
		`SELECT a.run_id, sum((s.tests ->> 'passed')::int + (s.tests ->> 'failed')::int + (s.tests ->> 'skipped')::int) AS n
		FROM attempts a JOIN steps s ON s.attempt_id = a.id WHERE a.run_id = ANY($1) AND jsonb_typeof(s.tests) = 'object'
			AND a.number = (SELECT max(number) FROM attempts WHERE job_id = a.job_id) GROUP BY a.run_id`, runs)
	counts := map[record.RunID]int{}
	for _, r := range rows {
		counts[r.Run] = r.N
	}
	return counts, err
}

// AddFinding adds to what is to be said of a run.
func (q Q) AddFinding(ctx context.Context, run record.RunID, f definition.Finding) error {
	return q.do(ctx, ErrNotFound,
		`UPDATE runs SET findings = CASE WHEN jsonb_typeof(findings) = 'array' THEN findings ELSE '[]' END || $2
			WHERE id = $1`,
		run, asJSON([]definition.Finding{f}))
}
