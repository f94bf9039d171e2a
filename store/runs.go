package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/condition"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/version"
)

// Run is one execution of a pipeline.
type Run struct {
	ID          record.RunID               `db:"id"`
	ProjectID   record.ProjectID           `db:"project_id"`
	Project     string                     `db:"project"`
	Number      record.RunNumber           `db:"number"`
	Pipeline    string                     `db:"pipeline"`
	Trigger     plan.Trigger               `db:"trigger"`
	Branch      string                     `db:"branch"`
	Tag         string                     `db:"tag"`
	Commit      string                     `db:"commit_id"`
	Subject     string                     `db:"subject"`
	Author      string                     `db:"author"`
	StartedBy   string                     `db:"started_by"`
	BuildNumber version.BuildNumber        `db:"build_number"`
	VersionName string                     `db:"version_name"`
	Env         JSON[map[string]string]    `db:"env"`
	State       state.State                `db:"state"`
	Reason      string                     `db:"reason"`
	FailedAt    string                     `db:"failed_at"`
	Findings    JSON[[]definition.Finding] `db:"findings"`
	Queued      time.Time                  `db:"queued_at"`
	Started     *time.Time                 `db:"started_at"`
	Finished    *time.Time                 `db:"finished_at"`
	Target      string                     `db:"target"`
	Proposal    string                     `db:"proposal"`
	Outside     bool                       `db:"outside"`
	Schedule    string                     `db:"schedule"`
	CausedBy    record.RunNumber           `db:"caused_by"`
	Depth       int                        `db:"depth"`
	Inputs      JSON[map[string]string]    `db:"inputs"`
	Facts       JSON[condition.Facts]      `db:"facts"`
	LimitMs     int64                      `db:"limit_ms"`
	Group       string                     `db:"run_group"`
	Priority    int                        `db:"priority"`
	AtOnce      int                        `db:"at_once"`
	Followed    bool                       `db:"followed"`
	Reopenings  int                        `db:"reopenings"`
	Reopened    *time.Time                 `db:"reopened_at"` // last
	Secrets     JSON[map[string]int]       `db:"secrets"`
	Guard       string                     `db:"guard"`     // which protected secrets its steps list; "" none
	Gated       bool                       `db:"gated"`     // it was given a secret, or restored what is gated
	PushID      record.PushID              `db:"push_id"`   // the event that started it; 0: a person
	Anew        string                     `db:"anew"`      // Fresh, Audit, or ""
	Bisection   record.BisectionID         `db:"bisection"` // the search that this is a try of; 0 for none
	Bisects     bool                       `db:"bisects"`   // its pipeline wants one when it breaks
}

// What a run does anew: all, or all that could be reused, to compare it.
const (
	Fresh = "fresh"
	Audit = "audit"
)

const runColumns = `r.id, r.project_id, p.name AS project, r.number, r.pipeline, r.trigger, r.branch, r.tag,
	r.commit_id,
	r.subject, r.author, r.started_by, r.build_number, r.version_name, r.env, r.state, r.reason, r.failed_at, r.findings,
	r.queued_at, r.started_at, r.finished_at, r.target, r.proposal, r.outside, r.schedule, r.caused_by, r.depth, r.inputs,
	r.facts, r.limit_ms, r.run_group, r.priority, r.at_once, r.followed, r.reopenings, r.reopened_at,
	r.secrets, r.guard, r.gated, r.push_id, r.anew, r.bisection, r.bisects
	FROM runs r JOIN projects p ON p.id = r.project_id`

// AddRun gives the run its number, and when build is set also a build number from the ledger, both under the lock
// of the project's row, so that neither is ever given twice. It sets r.ID, r.Number and r.BuildNumber.
func (q Q) AddRun(ctx context.Context, r *Run, build bool) error {
	var counters struct {
		Run   record.RunNumber `db:"last_run"`
		Build int64            `db:"last_build"`
	}
	step := 0
	if build {
		step = 1
	}
	err := q.get(ctx, &counters, `UPDATE projects SET last_run = last_run + 1, last_build = last_build + $2
		WHERE id = $1 RETURNING last_run, last_build`, r.ProjectID, step)
	if err != nil {
		return err
	}
	r.Number = counters.Run
	if build {
		r.BuildNumber = version.BuildNumber(counters.Build)
	}
	err = q.get(ctx, &r.ID,
		`INSERT INTO runs (project_id, number, pipeline, trigger, branch, tag, commit_id, subject, author,
		started_by, build_number, version_name, env, state, reason, failed_at, findings, queued_at, started_at, finished_at,
		target, proposal, outside, schedule, caused_by, depth, inputs, facts, limit_ms, run_group, priority, at_once,
		followed, guard, push_id, anew, bisection, bisects)
		VALUES ($1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11,$12,$13,$14,$15,$16,$17,
			$18,$19,$20,$21,$22,$23,$24,$25,$26,$27,$28,$29,$30,$31,$32,$33,$34,$35,$36,$37,$38) RETURNING id`,
		r.ProjectID, r.Number, r.Pipeline, string(r.Trigger), r.Branch, r.Tag, r.Commit, r.Subject, r.Author, r.StartedBy,
		int64(r.BuildNumber), r.VersionName, asJSON(r.Env.V), string(r.State), r.Reason, r.FailedAt, asJSON(r.Findings.V),
		r.Queued, r.Started, r.Finished, r.Target, r.Proposal, r.Outside, r.Schedule, r.CausedBy, r.Depth,
		asJSON(orNone(r.Inputs.V)),
		asJSON(r.Facts.V), r.LimitMs, r.Group, r.Priority, r.AtOnce, r.Followed, r.Guard, r.PushID,
		r.Anew, r.Bisection, r.Bisects)
	if err != nil || !build {
		return err
	}
	return q.do(ctx, nil, `INSERT INTO ledger (project_id, build_number, version_name, run_id) VALUES ($1, $2, $3, $4)`,
		r.ProjectID, counters.Build, r.VersionName, r.ID)
}

// RunByNumber finds a run of a project.
func (q Q) RunByNumber(ctx context.Context, project string, number record.RunNumber) (r Run, err error) {
	err = q.get(ctx, &r, `SELECT `+runColumns+` WHERE p.name = $1 AND r.number = $2`, project, number)
	return r, err
}

// RunByID finds a run.
func (q Q) RunByID(ctx context.Context, id record.RunID) (r Run, err error) {
	err = q.get(ctx, &r, `SELECT `+runColumns+` WHERE r.id = $1`, id)
	return r, err
}

// LockRun finds a run and locks it: what changes its jobs comes one after the other.
func (q Q) LockRun(ctx context.Context, id record.RunID) (r Run, err error) {
	err = q.get(ctx, &r, `SELECT `+runColumns+` WHERE r.id = $1 FOR UPDATE OF r`, id)
	return r, err
}

// RunFilter narrows a list of runs. Zero fields do not.
type RunFilter struct {
	Pipeline string
	Branch   string
	State    state.State
	Commit   string           // its id, or how that begins
	Before   record.RunNumber // numbers below this one
	Limit    int
	Tries    bool // those of searches for the first bad change, too
}

// Runs lists a project's runs, newest first.
func (q Q) Runs(ctx context.Context, project record.ProjectID, f RunFilter) (list []Run, err error) {
	err = q.list(ctx, &list, `SELECT `+runColumns+` WHERE r.project_id = $1
		AND ($2 = '' OR r.pipeline = $2) AND ($3 = '' OR r.branch = $3) AND ($4 = '' OR r.state = $4)
		AND ($5 = 0 OR r.number < $5) AND ($7 = '' OR r.commit_id LIKE $7 || '%')
		AND ($8 OR r.bisection = 0) ORDER BY r.number DESC LIMIT $6`,
		project, f.Pipeline, f.Branch, string(f.State), f.Before, f.Limit, f.Commit, f.Tries)
	return list, err
}

// LatestRuns finds the latest run of each project that is no try of a search.
func (q Q) LatestRuns(ctx context.Context, projects []record.ProjectID) (list []Run, err error) {
	err = q.list(ctx, &list, `SELECT `+runColumns+` WHERE r.project_id = ANY($1)
		AND r.number = (SELECT max(o.number) FROM runs o WHERE o.project_id = p.id AND o.bisection = 0)`, projects)
	return list, err
}

// SetRunState writes where a run stands; one that has begun is not queued any more. Times that are nil stay as they
// are, and so does the reason when empty. While a run waits for people its limit stands still.
func (q Q) SetRunState(ctx context.Context, id record.RunID, s state.State, reason string,
	started, finished *time.Time) error {
	return q.do(ctx, ErrNotFound,
		`UPDATE runs SET state = CASE WHEN $2 = 'queued' AND begun THEN 'running' ELSE $2 END, reason = CASE WHEN $3 = ''
			THEN reason ELSE $3 END,
		waiting_since = CASE WHEN $2 = 'waiting' THEN coalesce(waiting_since, now()) END,
		deadline = CASE WHEN $2 = 'waiting' THEN deadline ELSE deadline + (now() - coalesce(waiting_since, now())) END,
		started_at = coalesce(started_at, $4), finished_at = coalesce($5, finished_at) WHERE id = $1`,
		id, string(s), reason, started, finished)
}

// Reopen puts a run that is over back to work: some of its jobs are started again.
func (q Q) Reopen(ctx context.Context, id record.RunID) error {
	if err := q.ReviveVersions(ctx, id); err != nil {
		return err
	}
	return q.do(ctx, ErrNotFound,
		`UPDATE runs SET state = 'queued', reason = '', failed_at = '', finished_at = NULL, deadline = NULL, begun = false,
		reopened_at = now(), reopenings = reopenings + 1 WHERE id = $1`, id)
}

// NoteSecrets remembers which revisions of secrets a run's jobs were given.
func (q Q) NoteSecrets(ctx context.Context, id record.RunID, revisions map[string]int) error {
	return q.do(ctx, nil, `UPDATE runs SET secrets = secrets || $2, gated = gated OR $3 WHERE id = $1`, id,
		asJSON(revisions), len(revisions) > 0)
}

// Gate remembers that a run has restored what is gated.
func (q Q) Gate(ctx context.Context, id record.RunID) error {
	return q.do(ctx, nil, `UPDATE runs SET gated = true WHERE id = $1`, id)
}

// LastPassed finds the latest run of a pipeline before a number that passed: on the branch first, else on any.
func (q Q) LastPassed(ctx context.Context, r Run) (last Run, err error) {
	err = q.get(ctx, &last,
		`SELECT `+runColumns+
			` WHERE r.project_id = $1 AND r.pipeline = $2 AND r.branch = $3 AND r.number < $4 AND r.state = 'passed'
			AND r.bisection = 0
		ORDER BY r.number DESC LIMIT 1`, r.ProjectID, r.Pipeline, r.Branch, r.Number)
	if err == ErrNotFound {
		err = q.get(ctx, &last,
			`SELECT `+runColumns+
				` WHERE r.project_id = $1 AND r.pipeline = $2 AND r.number < $3 AND r.state = 'passed' AND NOT r.outside
			AND r.bisection = 0
			ORDER BY r.number DESC LIMIT 1`, r.ProjectID, r.Pipeline, r.Number)
	}
	return last, err
}

func orNone[V any](m map[string]V) map[string]V {
	if m == nil {
		return map[string]V{}
	}
	return m
}

// LastBuild is the highest build number ever issued to a project.
func (q Q) LastBuild(ctx context.Context, project record.ProjectID) (n int64, err error) {
	err = q.get(ctx, &n, `SELECT last_build FROM projects WHERE id = $1`, project)
	return n, err
}

// NoteFailure remembers which job and step made a run fail first, for lists.
func (q Q) NoteFailure(ctx context.Context, run record.RunID, attempt record.AttemptID) error {
	return q.do(ctx, nil, `UPDATE runs SET failed_at = (SELECT j.name || coalesce(' › ' || s.name, '')
			FROM attempts a JOIN jobs j ON j.id = a.job_id
			LEFT JOIN steps s ON s.attempt_id = a.id AND s.state IN ('failed', 'timed-out')
				AND NOT coalesce((j.definition -> 'step' -> s.position ->> 'advisory')::boolean, false)
			WHERE a.id = $2 ORDER BY s.position LIMIT 1)
		WHERE id = $1 AND failed_at = ''`, run, attempt)
}
