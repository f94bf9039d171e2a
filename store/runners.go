package store

import (
	"context"
	"errors"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// Runner is a machine's record.
type Runner struct {
	Name     string    `db:"name"`
	Labels   Texts     `db:"labels"`
	Platform string    `db:"platform"`
	Slots    int       `db:"slots"`
	Seen     time.Time `db:"seen_at"`
	Instance string    `db:"instance"` // which runner has the name: one folder on one machine
	Version  string    `db:"version"`
	Held     string    `db:"held"` // why it is handed no job; "" when it is
	HeldBy   string    `db:"held_by"`
	ClockMs  int64     `db:"clock_ms"` // what its clock is behind ours

	Tools JSON[map[string]string] `db:"tools"`
	Lacks Texts                   `db:"lacks"` // tools it has looked for in vain
	Host  JSON[RunnerHost]        `db:"host"`

	Token   record.TokenID   `db:"-"` // by which it asks
	Project record.ProjectID `db:"-"` // the only one that token is for; 0 any
}

const runnerColumns = `name, labels, platform, slots, seen_at, instance, version, held, held_by, clock_ms, tools, lacks,
	host`

// RunnerHost is what its machine is like; the zero value where it has not said.
type RunnerHost struct {
	Load       float64 `json:"load"`
	CPUs       int     `json:"cpus"`
	Memory     int64   `json:"memory"`
	MemoryFree int64   `json:"memory_free"`
	Disk       int64   `json:"disk"`
	DiskFree   int64   `json:"disk_free"`
}

// seenEvery is how often a runner's sign of life is written, when nothing else about it has changed: a hundred runners
// that ask for work make no hundred writes a second.
const seenEvery = "5 seconds"

// ErrTaken says that another runner has the name, and is there.
var ErrTaken = errors.New("the name is another runner's")

// clockSteps is how finely clocks are compared, in milliseconds: what a request takes makes no difference.
const clockSteps = 1000

// SeeRunner notes a runner's sign of life. ErrTaken when another runner of the name was seen within a time.
func (q Q) SeeRunner(ctx context.Context, r Runner, within time.Duration) error {
	tools, lacks := asJSON(orNone(r.Tools.V)), append([]string{}, r.Lacks...)
	clockMs := r.ClockMs / clockSteps * clockSteps
	var known bool // asked first, since even an upsert that changes nothing locks the row, which is a write
	err := q.get(ctx, &known,
		`SELECT EXISTS (SELECT 1 FROM runners WHERE name = $1 AND seen_at > now() - interval '`+seenEvery+`'
		AND (labels, platform, slots, tools, instance, version, clock_ms, lacks) IS NOT DISTINCT FROM ($2::text[], $3,
		$4::int, $5::jsonb, $6, $7, $8::bigint, $9::text[]))`,
		r.Name, r.Labels, r.Platform, r.Slots, tools, r.Instance, r.Version, clockMs, lacks)
	if err != nil || known {
		return err
	}
	return q.do(ctx, ErrTaken,
		`INSERT INTO runners (name, labels, platform, slots, tools, instance, version, clock_ms, lacks, host, seen_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $10, $11, now())
		ON CONFLICT (name) DO UPDATE SET labels = $2, platform = $3, slots = $4, tools = $5, instance = $6, version = $7,
		clock_ms = $8, lacks = $10, host = $11, seen_at = now()
			WHERE runners.instance IN ('', $6) OR runners.seen_at < now() - $9::interval`,
		r.Name, r.Labels, r.Platform, r.Slots, tools, r.Instance, r.Version, clockMs, within, lacks,
		asJSON(r.Host.V))
}

// TouchRunner notes that a runner that is at work was seen.
func (q Q) TouchRunner(ctx context.Context, name string) error {
	return q.do(ctx, nil,
		`UPDATE runners SET seen_at = now() WHERE name = $1 AND seen_at < now() - interval '`+seenEvery+`'`, name)
}

// Runners lists runners by name.
func (q Q) Runners(ctx context.Context, page Page) (list []Runner, err error) {
	err = q.list(ctx, &list, `SELECT `+runnerColumns+` FROM runners WHERE true`+paged("name"), page.args()...)
	return list, err
}

// RunnerDid is an attempt that a runner has, or had.
type RunnerDid struct {
	ProjectID record.ProjectID `db:"project_id"`
	Project   string           `db:"project"`
	Run       record.RunNumber `db:"run"`
	Job       string           `db:"job"`
	Number    int              `db:"number"`
	State     state.State      `db:"state"`
	Reason    string           `db:"reason"`
	Claimed   time.Time        `db:"claimed_at"`
	Finished  *time.Time       `db:"finished_at"`
}

// RunnerDid lists what a runner did in some projects, or, where that is nil, in all, before a time, the latest first.
func (q Q) RunnerDid(ctx context.Context, name string, projects []record.ProjectID, before time.Time, limit int) (
	list []RunnerDid, err error) {
	err = q.list(ctx, &list, `SELECT a.project_id, p.name AS project, r.number AS run, j.name AS job, a.number, a.state,
			a.reason, a.claimed_at, a.finished_at
		FROM attempts a JOIN jobs j ON j.id = a.job_id JOIN runs r ON r.id = a.run_id JOIN projects p ON p.id = a.project_id
		WHERE a.runner = $1 AND a.claimed_at < $2 AND ($3::bigint[] IS NULL OR a.project_id = ANY($3))
		ORDER BY a.claimed_at DESC LIMIT $4`, name, before, projects, limit)
	return list, err
}

// RunnerByName finds a runner.
func (q Q) RunnerByName(ctx context.Context, name string) (r Runner, err error) {
	err = q.get(ctx, &r, `SELECT `+runnerColumns+` FROM runners WHERE name = $1`, name)
	return r, err
}

// HoldRunner keeps a runner from being handed jobs; an empty reason lets it have some again.
func (q Q) HoldRunner(ctx context.Context, name, reason, by string) error {
	return q.do(ctx, ErrNotFound, `UPDATE runners SET held = $2, held_by = $3 WHERE name = $1`, name, reason, by)
}

// ForgetRunner removes the record of a runner that was not seen within a time; ErrNotFound when it was, or is not
// known.
func (q Q) ForgetRunner(ctx context.Context, name string, within time.Duration) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM runners WHERE name = $1 AND seen_at < now() - $2::interval
		AND NOT EXISTS (SELECT FROM attempts WHERE runner = $1 AND state = 'running')`, name, within)
}

// MayWork tells of runners that wait for work, by their tokens, which still may: the token stands, and the runner of
// the name is not held.
func (q Q) MayWork(ctx context.Context, tokens []record.TokenID, names []string) (standing map[record.TokenID]bool,
	held map[string]bool,
	err error) {
	var rows []struct {
		Token record.TokenID `db:"token"`
		Held  string         `db:"held"`
	}
	err = q.list(ctx, &rows,
		`SELECT id AS token, '' AS held FROM tokens WHERE id = ANY($1) AND (expires_at IS NULL OR expires_at > now())
		UNION ALL SELECT 0, name FROM runners WHERE name = ANY($2) AND held <> ''`, tokens, names)
	standing, held = map[record.TokenID]bool{0: true}, map[string]bool{}
	for _, r := range rows {
		if r.Held == "" {
			standing[r.Token] = true
		} else {
			held[r.Held] = true
		}
	}
	return standing, held, err
}
