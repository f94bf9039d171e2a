package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/checklist"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
)

// How a gate has ended; "" while it is open.
const (
	GateYes        = "yes"
	GateNo         = "no"
	GateUnanswered = "unanswered"
	GateCancelled  = "cancelled"
)

// Gate is a question to people, of a job that waits for their answer.
type Gate struct {
	ID        record.GateID         `db:"id"`
	ProjectID record.ProjectID      `db:"project_id"`
	RunID     record.RunID          `db:"run_id"`
	JobID     record.JobID          `db:"job_id"`
	Project   string                `db:"project"`
	Run       record.RunNumber      `db:"run"`
	Pipeline  string                `db:"pipeline"`
	Job       string                `db:"job"`
	StartedBy string                `db:"started_by"`
	Ask       JSON[*definition.Ask] `db:"ask"`
	Asked     time.Time             `db:"asked_at"`
	Until     time.Time             `db:"until"`
	Outcome   string                `db:"outcome"`
	Ended     *time.Time            `db:"ended_at"`
}

// Answer is what somebody has said.
type Answer struct {
	GateID   record.GateID   `db:"gate_id"`
	PersonID record.PersonID `db:"person_id"`
	Name     string          `db:"name"`
	Yes      bool            `db:"yes"`
	Comment  string          `db:"comment"`
	At       time.Time       `db:"at"`
}

const gateColumns = `g.id, g.project_id, g.run_id, g.job_id, p.name AS project, r.number AS run, r.pipeline,
	j.name AS job, r.started_by, g.ask, g.asked_at, g.until, g.outcome, g.ended_at
	FROM gates g JOIN projects p ON p.id = g.project_id JOIN runs r ON r.id = g.run_id JOIN jobs j ON j.id = g.job_id`

// AddGate writes a question and sets its id.
func (q Q) AddGate(ctx context.Context, g *Gate) error {
	return q.get(ctx, &g.ID, `INSERT INTO gates (project_id, run_id, job_id, ask, asked_at, until)
		VALUES ($1, $2, $3, $4, $5, $6) RETURNING id`, g.ProjectID, g.RunID, g.JobID, asJSON(g.Ask.V), g.Asked, g.Until)
}

// GateByID finds one.
func (q Q) GateByID(ctx context.Context, id record.GateID) (g Gate, err error) {
	err = q.get(ctx, &g, `SELECT `+gateColumns+` WHERE g.id = $1`, id)
	return g, err
}

// GatesOf lists those of a run, oldest first.
func (q Q) GatesOf(ctx context.Context, run record.RunID) (list []Gate, err error) {
	err = q.list(ctx, &list, `SELECT `+gateColumns+` WHERE g.run_id = $1 ORDER BY g.id`, run)
	return list, err
}

// GateFilter narrows a list of gates. Zero fields do not.
type GateFilter struct {
	Projects []record.ProjectID // nil: any
	Open     bool
	Before   record.GateID // ids below this one
	Limit    int
}

// Gates lists those of some projects, newest first.
func (q Q) Gates(ctx context.Context, f GateFilter) (list []Gate, err error) {
	err = q.list(ctx, &list, `SELECT `+gateColumns+` WHERE ($1 OR g.project_id = ANY($2)) AND (NOT $3 OR g.outcome = '')
		AND ($4 = 0 OR g.id < $4) ORDER BY g.id DESC LIMIT $5`,
		f.Projects == nil, f.Projects, f.Open, f.Before, f.Limit)
	return list, err
}

// EndGate ends one that is open; ErrNotFound when it is over.
func (q Q) EndGate(ctx context.Context, id record.GateID, outcome string, at time.Time) error {
	return q.do(ctx, ErrNotFound, `UPDATE gates SET outcome = $2, ended_at = $3 WHERE id = $1 AND outcome = ''`, id,
		outcome, at)
}

// CancelGates ends all that are open of a run.
func (q Q) CancelGates(ctx context.Context, run record.RunID) error {
	return q.do(ctx, nil, `UPDATE gates SET outcome = 'cancelled', ended_at = now() WHERE run_id = $1 AND outcome = ''`,
		run)
}

// SetAnswer writes what somebody says; what they said before gives way.
func (q Q) SetAnswer(ctx context.Context, a Answer) error {
	return q.do(ctx, nil, `INSERT INTO answers (gate_id, person_id, yes, comment, at) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (gate_id, person_id) DO UPDATE SET yes = excluded.yes, comment = excluded.comment, at = excluded.at`,
		a.GateID, a.PersonID, a.Yes, a.Comment, a.At)
}

// Answers lists what has been said at gates, in the order in which it was.
func (q Q) Answers(ctx context.Context, gates []record.GateID) (list []Answer, err error) {
	err = q.list(ctx, &list, `SELECT a.gate_id, a.person_id, p.name, a.yes, a.comment, a.at FROM answers a
		JOIN people p ON p.id = a.person_id WHERE a.gate_id = ANY($1) ORDER BY a.at, p.name`, gates)
	return list, err
}

// AskedPackage is a package about which people are asked.
type AskedPackage struct {
	File     string                    `db:"file"`
	Findings JSON[[]checklist.Breach]  `db:"findings"`
	Ask      JSON[*definition.RuleAsk] `db:"ask"`
}

// AskAbout has people asked about a package once the attempt has passed that looked into it.
func (q Q) AskAbout(ctx context.Context, attempt record.AttemptID, p record.PackageID, ask *definition.RuleAsk) error {
	return q.do(ctx, nil, `INSERT INTO asked_packages (attempt_id, package_id, ask) VALUES ($1, $2, $3)
		ON CONFLICT (attempt_id, package_id) DO UPDATE SET ask = excluded.ask`, attempt, p, asJSON(ask))
}

// AskedPackages lists those of an attempt about which people are asked.
func (q Q) AskedPackages(ctx context.Context, attempt record.AttemptID) (list []AskedPackage, err error) {
	err = q.list(ctx, &list, `SELECT p.file, p.findings, a.ask FROM asked_packages a JOIN packages p ON p.id = a.package_id
		WHERE a.attempt_id = $1 ORDER BY p.file`, attempt)
	return list, err
}

// NoteRefusal remembers the job without steps of its own that made a run fail first, for lists.
func (q Q) NoteRefusal(ctx context.Context, run record.RunID, job string) error {
	return q.do(ctx, nil, `UPDATE runs SET failed_at = $2 WHERE id = $1 AND failed_at = ''`, run, job)
}
