package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/bisect"
	"gentlepiston.example/piston/core/record"
)

// Bisection is a search, by halves, for the first change with which a job of a run fails.
type Bisection struct {
	ID        record.BisectionID `db:"id"`
	ProjectID record.ProjectID   `db:"project_id"`
	RunID     record.RunID       `db:"run_id"`
	Job       string             `db:"job"`
	Print     []byte             `db:"print"` // of the failure; empty when any will do
	Good      record.RunNumber   `db:"good"`  // the last run that passed
	Changes   JSON[[]Suspect]    `db:"changes"`
	AskedBy   string             `db:"asked_by"` // "" its pipeline
	Begun     time.Time          `db:"begun_at"`
	Ended     *time.Time         `db:"ended_at"`
	EndedWhy  string             `db:"ended_why"` // "" it is known what can be
}

// Suspect is a commit that may be to blame.
type Suspect struct {
	Commit  string `json:"commit"`
	Subject string `json:"subject"`
	Author  string `json:"author"`
}

// BisectionTry is the try of one change.
type BisectionTry struct {
	Position int              `db:"position"` // of the change
	Run      record.RunNumber `db:"run"`      // 0: it could not be planned
	Verdict  bisect.Verdict   `db:"verdict"`  // "" it is not over
	Why      string           `db:"why"`
}

var bisectionColumns = columnsOf[Bisection]("b")

// BeginBisection begins a search, in place of one for the same job that is over; ErrNotFound when that is not over.
func (q Q) BeginBisection(ctx context.Context, b Bisection) (id record.BisectionID, err error) {
	err = q.do(ctx, nil, `DELETE FROM bisections WHERE run_id = $1 AND job = $2 AND ended_at IS NOT NULL`, b.RunID, b.Job)
	if err != nil {
		return 0, err
	}
	err = q.get(ctx, &id, `INSERT INTO bisections (project_id, run_id, job, print, good, changes, asked_by)
		VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT (run_id, job) DO NOTHING RETURNING id`, b.ProjectID, b.RunID, b.Job,
		append([]byte{}, b.Print...), int64(b.Good), asJSON(b.Changes.V), b.AskedBy)
	return id, err
}

// LockBisection finds a search and locks it: what changes it comes one after the other.
func (q Q) LockBisection(ctx context.Context, id record.BisectionID) (b Bisection, err error) {
	err = q.get(ctx, &b, `SELECT `+bisectionColumns+` FROM bisections b WHERE b.id = $1 FOR UPDATE`, id)
	return b, err
}

// Bisections lists the searches for what broke jobs of a run.
func (q Q) Bisections(ctx context.Context, run record.RunID) (list []Bisection, err error) {
	err = q.list(ctx, &list, `SELECT `+bisectionColumns+` FROM bisections b WHERE b.run_id = $1 ORDER BY b.job`, run)
	return list, err
}

// BisectionTries lists the tries of a search, in the order in which they were begun.
func (q Q) BisectionTries(ctx context.Context, id record.BisectionID) (list []BisectionTry, err error) {
	err = q.list(ctx, &list, `SELECT position, run, verdict, why FROM bisection_tries WHERE bisection_id = $1
		ORDER BY tried_at, position`, id)
	return list, err
}

// AddBisectionTry writes that a change is tried, or cannot be.
func (q Q) AddBisectionTry(ctx context.Context, id record.BisectionID, t BisectionTry) error {
	return q.do(ctx, nil, `INSERT INTO bisection_tries (bisection_id, position, run, verdict, why)
		VALUES ($1, $2, $3, $4, $5)`, id, t.Position, int64(t.Run), string(t.Verdict), t.Why)
}

// JudgeBisectionTry writes how one went, once.
func (q Q) JudgeBisectionTry(ctx context.Context, id record.BisectionID, t BisectionTry) error {
	return q.do(ctx, nil, `UPDATE bisection_tries SET verdict = $3, why = $4
		WHERE bisection_id = $1 AND position = $2 AND verdict = ''`, id, t.Position, string(t.Verdict), t.Why)
}

// EndBisection ends a search; ErrNotFound when it is over. why is "" when it is known what can be.
func (q Q) EndBisection(ctx context.Context, id record.BisectionID, why string) error {
	return q.do(ctx, ErrNotFound, `UPDATE bisections SET ended_at = now(), ended_why = $2
		WHERE id = $1 AND ended_at IS NULL`, id, why)
}
