package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// Stay is a workspace that stays, or is to stay, after its attempt has ended.
type Stay struct {
	AttemptID record.AttemptID `db:"attempt_id"`
	ProjectID record.ProjectID `db:"project_id"`
	ForMs     int64            `db:"for_ms"`
	AskedBy   string           `db:"asked_by"`
	Until     *time.Time       `db:"until"` // nil while the attempt runs
	Recipient string           `db:"recipient"`
	Ended     *time.Time       `db:"ended_at"`
	EndedWhy  string           `db:"ended_why"`

	Project string           `db:"project"`
	RunID   record.RunID     `db:"run_id"`
	Run     record.RunNumber `db:"run"`
	Job     string           `db:"job"`
	JobID   record.JobID     `db:"job_id"`
	Number  int              `db:"number"`
	Runner  string           `db:"runner"`
	State   state.State      `db:"state"` // of its attempt
	Open    int              `db:"open"`  // shells in it
}

const fromStays = `SELECT s.attempt_id, s.project_id, s.for_ms, s.asked_by, s.until, s.recipient, s.ended_at,
		s.ended_why, p.name AS project, r.id AS run_id, r.number AS run, j.name AS job, j.id AS job_id, a.number, a.runner,
		a.state, (SELECT count(*) FROM shells h WHERE h.attempt_id = s.attempt_id AND h.ended_at IS NULL) AS open
	FROM stays s JOIN attempts a ON a.id = s.attempt_id JOIN jobs j ON j.id = a.job_id JOIN runs r ON r.id = a.run_id
	JOIN projects p ON p.id = s.project_id `

// AskStay has the workspace of a running attempt stay when it has ended, in place of what was asked before.
func (q Q) AskStay(ctx context.Context, a Attempt, long time.Duration, by string) error {
	return q.do(ctx, nil, `INSERT INTO stays (attempt_id, project_id, for_ms, asked_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (attempt_id) DO UPDATE SET for_ms = $3, asked_by = $4, asked_at = now()`,
		a.ID, a.ProjectID, long.Milliseconds(), by)
}

// BeginStay has an asked-for workspace stay from now on, now that its attempt has ended; ErrNotFound when nobody has
// asked.
func (q Q) BeginStay(ctx context.Context, attempt record.AttemptID) error {
	return q.do(ctx, ErrNotFound, `UPDATE stays SET until = now() + for_ms * interval '1 millisecond', seen_at = now()
		WHERE attempt_id = $1 AND ended_at IS NULL`, attempt)
}

// IsToStay tells whether the workspace of an attempt that has ended is to stay.
func (q Q) IsToStay(ctx context.Context, attempt record.AttemptID) (is bool, err error) {
	err = q.get(ctx, &is, `SELECT EXISTS (SELECT FROM stays WHERE attempt_id = $1 AND ended_at IS NULL
		AND until > now())`, attempt)
	return is, err
}

// SeeStay notes that a runner has a workspace that stays; ErrNotFound when it is to stay no longer.
func (q Q) SeeStay(ctx context.Context, attempt record.AttemptID, recipient string) error {
	return q.do(ctx, ErrNotFound, `UPDATE stays SET seen_at = now(), recipient = $2
		WHERE attempt_id = $1 AND ended_at IS NULL AND until > now()`, attempt, recipient)
}

// SeeStaysAnew takes all that stay for seen just now: after the server was away, their runners need time to say so.
func (q Q) SeeStaysAnew(ctx context.Context) error {
	return q.do(ctx, nil, `UPDATE stays SET seen_at = now() WHERE ended_at IS NULL AND until > now()`)
}

// ProlongStay has one that stays do so for a time from now on.
func (q Q) ProlongStay(ctx context.Context, attempt record.AttemptID, long time.Duration) error {
	return q.do(ctx, ErrNotFound, `UPDATE stays SET until = now() + $2 WHERE attempt_id = $1 AND ended_at IS NULL
		AND until > now()`, attempt, long)
}

// EndStay ends one, with the shells in it; ErrNotFound when it is over already.
func (q Q) EndStay(ctx context.Context, attempt record.AttemptID, why string) error {
	var one record.AttemptID
	return q.get(ctx, &one, `WITH over AS (UPDATE stays SET ended_at = now(), ended_why = $2 WHERE attempt_id = $1
			AND ended_at IS NULL RETURNING attempt_id),
		shut AS (UPDATE shells SET ended_at = now(), ended_why = $2 FROM over WHERE shells.attempt_id = over.attempt_id
			AND shells.ended_at IS NULL)
		SELECT attempt_id FROM over`, attempt, why)
}

// StaysOver lists those whose time is over, or whose runner was not heard of for a time.
func (q Q) StaysOver(ctx context.Context, silent time.Duration) (list []Stay, err error) {
	err = q.list(ctx, &list, fromStays+`WHERE s.ended_at IS NULL AND s.until IS NOT NULL AND (s.until < now()
		OR s.seen_at < now() - $1::interval) ORDER BY s.attempt_id`, silent)
	return list, err
}

// DropStays forgets what was asked for of attempts that have ended otherwise than by their runner's word.
func (q Q) DropStays(ctx context.Context) error {
	return q.do(ctx, nil, `DELETE FROM stays s USING attempts a WHERE a.id = s.attempt_id AND s.until IS NULL
		AND a.finished_at < now() - interval '1 minute'`)
}

// StayFilter narrows the list of workspaces that stay.
type StayFilter struct {
	Projects []record.ProjectID // only those of them; nil all
	Runner   string             // "" any
	Over     bool               // those that are over, too
	Limit    int
}

// Stays lists workspaces that stay, or are to, the latest first.
func (q Q) Stays(ctx context.Context, f StayFilter) (list []Stay, err error) {
	err = q.list(ctx, &list, fromStays+`WHERE ($1::bigint[] IS NULL OR s.project_id = ANY($1))
		AND ($2 = '' OR a.runner = $2) AND ($3 OR s.ended_at IS NULL) ORDER BY s.attempt_id DESC LIMIT $4`,
		f.Projects, f.Runner, f.Over, f.Limit)
	return list, err
}

// StayOf finds one by its attempt.
func (q Q) StayOf(ctx context.Context, attempt record.AttemptID) (s Stay, err error) {
	err = q.get(ctx, &s, fromStays+`WHERE s.attempt_id = $1`, attempt)
	return s, err
}

// LockStay holds the row of one that stays for the transaction; ErrNotFound when it does no longer.
func (q Q) LockStay(ctx context.Context, attempt record.AttemptID) error {
	var one record.AttemptID
	return q.get(ctx, &one, `SELECT attempt_id FROM stays WHERE attempt_id = $1 AND ended_at IS NULL FOR UPDATE`, attempt)
}

// StayOfJob finds the latest of a run's job that is not over.
func (q Q) StayOfJob(ctx context.Context, run record.RunID, job string) (s Stay, err error) {
	err = q.get(ctx, &s, fromStays+`WHERE r.id = $1 AND j.name = $2 AND s.ended_at IS NULL
		ORDER BY s.attempt_id DESC LIMIT 1`, run, job)
	return s, err
}

// RunningOfJob finds the attempt of a run's job that is at work.
func (q Q) RunningOfJob(ctx context.Context, run record.RunID, job string) (a Attempt, err error) {
	err = q.get(ctx, &a, `SELECT `+attemptColumns+` FROM attempts JOIN jobs j ON j.id = attempts.job_id
		WHERE attempts.run_id = $1 AND j.name = $2 AND attempts.state = 'running' AND attempts.lease_until IS NOT NULL`,
		run, job)
	return a, err
}
