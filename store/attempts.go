package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// Attempt is one try of a job.
type Attempt struct {
	ID         record.AttemptID `db:"id"`
	JobID      record.JobID     `db:"job_id"`
	RunID      record.RunID     `db:"run_id"`
	Number     int              `db:"number"`
	Labels     Texts            `db:"labels"`
	State      state.State      `db:"state"`
	Reason     string           `db:"reason"`
	Runner     string           `db:"runner"`
	Stop       bool             `db:"stop"`
	StopReason string           `db:"stop_reason"`
	LeaseUntil *time.Time       `db:"lease_until"`
	Queued     time.Time        `db:"queued_at"`
	Claimed    *time.Time       `db:"claimed_at"`
	Prepared   *time.Time       `db:"prepared_at"`
	Finished   *time.Time       `db:"finished_at"`
	LogLines   int64            `db:"log_lines"`
	LogBlob    string           `db:"log_blob"`
	LogSize    int64            `db:"log_size"`
	LogMoved   *time.Time       `db:"log_moved"`
	LogPurged  bool             `db:"log_purged"`
	ProjectID  record.ProjectID `db:"project_id"`
	Lost       bool             `db:"lost"`
	NotBefore  *time.Time       `db:"not_before"`
	StopState  state.State      `db:"stop_state"`

	RunnerToken record.TokenID `db:"runner_token"` // of the runner that has it

	Tools      JSON[map[string]string] `db:"tools"`
	ToolsFound JSON[map[string]string] `db:"tools_found"`

	HandedBack bool  `db:"handed_back"` // its runner ended in order; it counts as no try
	ClockMs    int64 `db:"clock_ms"`    // what the clock of the runner that has it is behind ours
}

var attemptColumns = columnsOf[Attempt]("attempts")

// At is a time of the attempt's runner by our clock, given in milliseconds of its own since 1970.
func (a Attempt) At(ms int64) time.Time { return time.UnixMilli(ms + a.ClockMs) }

// NewAttempt is a try of a job that goes into the queue.
type NewAttempt struct {
	Job  Job
	At   time.Time
	Wait time.Duration // pause before it may be handed out
}

// AddAttempts puts tries of jobs, with their steps, into the queue. Each gets the number after the job's last.
func (q Q) AddAttempts(ctx context.Context, project record.ProjectID, list []NewAttempt) error {
	if len(list) == 0 {
		return nil
	}
	type step struct {
		Job      record.JobID `json:"job"`
		Position int          `json:"position"`
		Name     string       `json:"name"`
	}
	type row struct {
		Job       record.JobID      `json:"job"`
		Run       record.RunID      `json:"run"`
		Labels    []string          `json:"labels"`
		Tools     map[string]string `json:"tools"`
		At        time.Time         `json:"at"`
		NotBefore *time.Time        `json:"not_before"`
	}
	var rows []row
	var steps []step
	for _, a := range list {
		d := a.Job.Definition.V
		r := row{Job: a.Job.ID, Run: a.Job.RunID, Labels: d.Machine, Tools: orNone(d.Tools), At: a.At}
		if a.Wait > 0 {
			t := a.At.Add(a.Wait)
			r.NotBefore = &t
		}
		rows = append(rows, r)
		for i, s := range d.Step {
			steps = append(steps, step{a.Job.ID, i, s.Name})
		}
	}
	return q.do(ctx, nil, `WITH added AS (
			INSERT INTO attempts (job_id, run_id, number, labels, state, queued_at, project_id, tools, not_before)
			SELECT job, run, coalesce((SELECT max(number) FROM attempts WHERE job_id = job), 0) + 1, labels, 'queued', at, $1,
			tools, not_before
			FROM jsonb_to_recordset($2) AS r(job bigint, run bigint, labels text[], tools jsonb, at timestamptz,
			not_before timestamptz)
			RETURNING id, job_id)
		INSERT INTO steps (attempt_id, position, name, state) SELECT added.id, s.position, s.name, 'queued'
		FROM jsonb_to_recordset($3) AS s(job bigint, position int, name text) JOIN added ON added.job_id = s.job`,
		project, asJSON(rows), asJSON(steps))
}

// Tries counts the attempts of a job since its run was last opened, and those of them whose runner was lost.
func (q Q) Tries(ctx context.Context, job record.JobID) (all, lost int, err error) {
	var n struct {
		All  int `db:"n"`
		Lost int `db:"lost"`
	}
	err = q.get(ctx, &n, `SELECT count(*) FILTER (WHERE NOT a.handed_back) AS n, count(*) FILTER (WHERE a.lost) AS lost
		FROM attempts a JOIN runs r ON r.id = a.run_id
		WHERE a.job_id = $1 AND a.queued_at >= coalesce(r.reopened_at, '-infinity')`, job)
	return n.All, n.Lost, err
}

// Beat extends the lease of a running attempt; ErrNotFound when it is not running any more.
func (q Q) Beat(ctx context.Context, id record.AttemptID, lease time.Duration) (a Attempt, err error) {
	err = q.get(ctx, &a, `UPDATE attempts SET lease_until = now() + $2 WHERE id = $1 AND state = 'running' RETURNING `+
		attemptColumns, id, lease)
	return a, err
}

// ExtendLeases gives every running attempt a fresh lease: after the server was away, runners need time to report.
func (q Q) ExtendLeases(ctx context.Context, lease time.Duration) error {
	return q.do(ctx, nil, `UPDATE attempts SET lease_until = now() + $1 WHERE state = 'running'
		AND lease_until IS NOT NULL`, lease)
}

// TakeOver makes a running attempt the service's own: it has no lease, and is lost with no runner.
func (q Q) TakeOver(ctx context.Context, attempt record.AttemptID) error {
	return q.do(ctx, ErrNotFound, `UPDATE attempts SET lease_until = NULL, prepared_at = claimed_at
		WHERE id = $1 AND state = 'running'`, attempt)
}

// OwnAttempts lists the running attempts of a run that are the service's own.
func (q Q) OwnAttempts(ctx context.Context, run record.RunID) (ids []record.AttemptID, err error) {
	err = q.list(ctx, &ids, `SELECT id FROM attempts WHERE run_id = $1 AND state = 'running' AND lease_until IS NULL
		ORDER BY id`, run)
	return ids, err
}

// Drive takes hold of one of the service's own attempts for a while, so that no other server does its steps at the
// same time; ErrNotFound when another holds it, or it is over.
func (q Q) Drive(ctx context.Context, attempt record.AttemptID, lease time.Duration) (a Attempt, err error) {
	err = q.get(ctx, &a, `UPDATE attempts SET driven_until = now() + $2 WHERE id = $1 AND state = 'running'
		AND lease_until IS NULL AND (driven_until IS NULL OR driven_until < now()) RETURNING `+attemptColumns, attempt, lease)
	return a, err
}

// GoOnDriving holds an attempt for a while longer.
func (q Q) GoOnDriving(ctx context.Context, attempt record.AttemptID, lease time.Duration) error {
	return q.do(ctx, nil, `UPDATE attempts SET driven_until = now() + $2 WHERE id = $1`, attempt, lease)
}

// LeftAttempts lists the service's own whose server has ended while it had them in hand, and lets go of them.
func (q Q) LeftAttempts(ctx context.Context) (ids []record.AttemptID, err error) {
	err = q.list(ctx, &ids, `UPDATE attempts SET driven_until = NULL WHERE state = 'running' AND lease_until IS NULL
		AND driven_until < now() RETURNING id`)
	return ids, err
}

// LetGo lets others drive an attempt.
func (q Q) LetGo(ctx context.Context, attempt record.AttemptID) error {
	return q.do(ctx, nil, `UPDATE attempts SET driven_until = NULL WHERE id = $1`, attempt)
}

// LostAttempts lists running attempts whose lease is over.
func (q Q) LostAttempts(ctx context.Context) (list []Attempt, err error) {
	err = q.list(ctx, &list,
		`SELECT `+attemptColumns+` FROM attempts WHERE state = 'running' AND lease_until < now() ORDER BY id LIMIT 100`)
	return list, err
}

// AttemptByID finds an attempt.
func (q Q) AttemptByID(ctx context.Context, id record.AttemptID) (a Attempt, err error) {
	err = q.get(ctx, &a, `SELECT `+attemptColumns+` FROM attempts WHERE id = $1`, id)
	return a, err
}

// RunningAttempt finds an attempt and locks it for the transaction; ErrNotFound when it is not running (any more).
// Every write of a runner goes through here: a late one from a lost attempt changes nothing.
func (q Q) RunningAttempt(ctx context.Context, id record.AttemptID) (a Attempt, err error) {
	err = q.get(ctx, &a, `SELECT `+attemptColumns+` FROM attempts WHERE id = $1 AND state = 'running' FOR UPDATE`, id)
	return a, err
}

// IsRunning is RunningAttempt without the lock, for writes that go elsewhere than the database.
func (q Q) IsRunning(ctx context.Context, id record.AttemptID) (a Attempt, err error) {
	err = q.get(ctx, &a, `SELECT `+attemptColumns+` FROM attempts WHERE id = $1 AND state = 'running'`, id)
	return a, err
}

// Attempts lists a run's attempts, oldest first.
func (q Q) Attempts(ctx context.Context, run record.RunID) (list []Attempt, err error) {
	err = q.list(ctx, &list, `SELECT `+attemptColumns+` FROM attempts WHERE run_id = $1 ORDER BY id`, run)
	return list, err
}

// SetPrepared notes that a runner has checkout and caches in place.
func (q Q) SetPrepared(ctx context.Context, id record.AttemptID, at time.Time) error {
	return q.do(ctx, ErrNotFound, `UPDATE attempts SET prepared_at = $2 WHERE id = $1 AND state = 'running'`, id, at)
}

// EndAttempt ends a queued or running attempt; ErrNotFound when it is over already.
func (q Q) EndAttempt(ctx context.Context, id record.AttemptID, s state.State, reason string, at time.Time,
	lines int64) error {
	return q.do(ctx, ErrNotFound,
		`UPDATE attempts SET state = $2, reason = $3, finished_at = $4, log_lines = $5, lease_until = NULL
		WHERE id = $1 AND state IN ('queued', 'running')`, id, string(s), reason, at, lines)
}

// MarkLost notes that an attempt's runner went silent.
func (q Q) MarkLost(ctx context.Context, id record.AttemptID) error {
	return q.do(ctx, ErrNotFound, `UPDATE attempts SET lost = true WHERE id = $1`, id)
}

// MarkHandedBack notes that an attempt's runner gave it back since it was ended in order.
func (q Q) MarkHandedBack(ctx context.Context, id record.AttemptID) error {
	return q.do(ctx, ErrNotFound, `UPDATE attempts SET handed_back = true WHERE id = $1`, id)
}

// AskToStop marks the running attempts of a run; their runners learn of it with their next beat.
func (q Q) AskToStop(ctx context.Context, run record.RunID, to state.State, reason string) error {
	return q.do(ctx, nil,
		`UPDATE attempts SET stop = true, stop_reason = $2, stop_state = $3 WHERE run_id = $1 AND state = 'running'`, run,
		reason, string(to))
}

// AttemptsWithLogToMove lists ended attempts whose log is still in the stream.
func (q Q) AttemptsWithLogToMove(ctx context.Context) (list []Attempt, err error) {
	err = q.list(ctx, &list, `SELECT `+attemptColumns+` FROM attempts WHERE NOT log_purged AND log_moved IS NULL
		AND state NOT IN ('queued', 'running', 'waiting') ORDER BY id LIMIT 100`)
	return list, err
}

// AttemptsWithLogToPurge lists attempts whose log was moved before a time and is still in the stream too.
func (q Q) AttemptsWithLogToPurge(ctx context.Context, before time.Time) (list []Attempt, err error) {
	err = q.list(ctx, &list,
		`SELECT `+attemptColumns+` FROM attempts WHERE NOT log_purged AND log_moved < $1 ORDER BY id LIMIT 100`, before)
	return list, err
}

// LogMoved notes where a finished log is.
func (q Q) LogMoved(ctx context.Context, id record.AttemptID, blob string, size, lines int64) error {
	return q.do(ctx, ErrNotFound,
		`UPDATE attempts SET log_blob = $2, log_size = $3, log_lines = $4, log_moved = now() WHERE id = $1`,
		id, blob, size, lines)
}

// LogPurged notes that a log is no longer in the stream.
func (q Q) LogPurged(ctx context.Context, id record.AttemptID) error {
	return q.do(ctx, ErrNotFound, `UPDATE attempts SET log_purged = true WHERE id = $1`, id)
}

// Busy counts the running attempts of each runner.
func (q Q) Busy(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Runner string `db:"runner"`
		N      int    `db:"n"`
	}
	err := q.list(ctx, &rows, `SELECT runner, count(*) AS n FROM attempts WHERE state = 'running' GROUP BY runner`)
	busy := map[string]int{}
	for _, r := range rows {
		busy[r.Runner] = r.N
	}
	return busy, err
}

// IsSourceOf reports whether a runner, by its token, has a job at hand that may read a project's source: one of that
// project, or of one that it is lent to.
func (q Q) IsSourceOf(ctx context.Context, project string, token record.TokenID) (is bool, err error) {
	err = q.get(ctx, &is,
		`SELECT EXISTS (SELECT FROM attempts a JOIN projects p ON p.name = $1 WHERE a.state = 'running'
			AND a.runner_token = $2
		AND (a.project_id = p.id OR EXISTS (SELECT FROM lendings l WHERE l.project_id = p.id AND l.to_id = a.project_id)))`,
		project, token)
	return is, err
}

// IsOfToken reports whether an attempt is, or was, the runner's who has a token.
func (q Q) IsOfToken(ctx context.Context, attempt record.AttemptID, token record.TokenID) (is bool, err error) {
	err = q.get(ctx, &is, `SELECT EXISTS (SELECT FROM attempts WHERE id = $1 AND runner_token = $2)`, attempt, token)
	return is, err
}

// SearchedLog is an attempt whose log is looked into, and whose it is.
type SearchedLog struct {
	Attempt
	Run      record.RunNumber `db:"run"`
	Pipeline string           `db:"pipeline"`
	Job      string           `db:"job"`
}

// LogsFilter says into which logs is looked.
type LogsFilter struct {
	Run   record.RunNumber // 0: all
	Job   string           // "": all
	From  record.AttemptID // this one and those before it
	Limit int
}

// LogsToSearch lists attempts of a project that have a log, the latest first.
func (q Q) LogsToSearch(ctx context.Context, project record.ProjectID, f LogsFilter) (list []SearchedLog, err error) {
	err = q.list(ctx, &list, `SELECT `+columnsOf[Attempt]("a")+`, r.number AS run, r.pipeline, j.name AS job
		FROM attempts a JOIN runs r ON r.id = a.run_id JOIN jobs j ON j.id = a.job_id
		WHERE a.project_id = $1 AND a.id <= $2 AND ($3 = 0 OR r.number = $3) AND ($4 = '' OR j.name = $4)
			AND a.claimed_at IS NOT NULL AND (a.log_moved IS NULL OR a.log_blob <> '')
		ORDER BY a.id DESC LIMIT $5`, project, f.From, f.Run, f.Job, f.Limit)
	return list, err
}
