package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Push is a recorded event that may start runs: a report of changed refs, a proposal, the end of a run, a schedule.
type Push struct {
	ID        record.PushID    `db:"id"`
	ProjectID record.ProjectID `db:"project_id"`
	Body      json.RawMessage  `db:"body"`
	Received  time.Time        `db:"received_at"`
	Planned   *time.Time       `db:"planned_at"`
	SetAside  *time.Time       `db:"set_aside_at"` // planning it ended the server too often
	Tries     int              `db:"tries"`
	Begun     int              `db:"begun"` // how often planning began and has not come back
	Note      string           `db:"note"`
}

const pushColumns = `id, project_id, body, received_at, planned_at, set_aside_at, tries, begun, note`

// AddPush records a push once for each delivery id; again tells that it was there before.
func (q Q) AddPush(ctx context.Context, project record.ProjectID, delivery string, body []byte) (id record.PushID,
	again bool, err error) {
	err = q.get(ctx, &id, `INSERT INTO pushes (project_id, delivery, body) VALUES ($1, $2, $3)
		ON CONFLICT (project_id, delivery) DO NOTHING RETURNING id`, project, delivery, body)
	if errors.Is(err, ErrNotFound) {
		err = q.get(ctx, &id, `SELECT id FROM pushes WHERE project_id = $1 AND delivery = $2`, project, delivery)
		return id, true, err
	}
	return id, false, err
}

// BeginPlanning counts that planning a push begins, and keeps it from others for a while; ErrNotFound when it is
// planned or set aside, or another has it. PlanningReturned takes it back. What is counted and not taken back has ended
// a server.
func (q Q) BeginPlanning(ctx context.Context, id record.PushID, lease time.Duration) (p Push, err error) {
	err = q.get(ctx, &p, `UPDATE pushes SET begun = begun + 1, planning_until = now() + make_interval(secs => $2)
		WHERE id = (SELECT id FROM pushes WHERE id = $1 AND planned_at IS NULL AND set_aside_at IS NULL
			AND (planning_until IS NULL OR planning_until <= now()) FOR UPDATE SKIP LOCKED) RETURNING `+pushColumns,
		id, lease.Seconds())
	return p, err
}

// KeepPlanning keeps a push from others for a while longer.
func (q Q) KeepPlanning(ctx context.Context, id record.PushID, lease time.Duration) error {
	return q.do(ctx, nil, `UPDATE pushes SET planning_until = now() + make_interval(secs => $2)
		WHERE id = $1 AND planning_until IS NOT NULL`, id, lease.Seconds())
}

// PlanningReturned takes back what BeginPlanning has counted.
func (q Q) PlanningReturned(ctx context.Context, id record.PushID) error {
	return q.do(ctx, nil, `UPDATE pushes SET begun = greatest(begun - 1, 0), planning_until = NULL
		WHERE id = $1 AND planned_at IS NULL`, id)
}

// TakePush locks an unplanned push for the transaction; ErrNotFound when it is planned or another has it.
func (q Q) TakePush(ctx context.Context, id record.PushID) error {
	return q.get(ctx, &id, `SELECT id FROM pushes
		WHERE id = $1 AND planned_at IS NULL AND set_aside_at IS NULL FOR UPDATE SKIP LOCKED`, id)
}

// Unplanned is an event that is to be planned.
type Unplanned struct {
	ID        record.PushID    `db:"id"`
	ProjectID record.ProjectID `db:"project_id"`
}

// UnplannedPushes lists the events that are to be planned now, oldest first: those received before a time, and the
// service's own, whose delivery has a space. After n tries the next comes when n²/2 seconds have passed since it was
// received. Of one project there are a few at most, so that none keeps the others from being listed.
func (q Q) UnplannedPushes(ctx context.Context, before time.Time) (list []Unplanned, err error) {
	err = q.list(ctx, &list, `SELECT id, project_id FROM (
			SELECT id, project_id, row_number() OVER (PARTITION BY project_id ORDER BY id) AS place FROM pushes
			WHERE planned_at IS NULL AND set_aside_at IS NULL AND (received_at < $1 OR delivery LIKE '% %')
				AND received_at + tries * tries * interval '0.5 seconds' <= now()) waiting
		WHERE place <= 10 ORDER BY id LIMIT 100`, before)
	return list, err
}

// PushFilter narrows a list of pushes. Zero fields do not.
type PushFilter struct {
	State  string        // planned, waiting or set-aside
	Commit string        // one of its refs came to this object
	Before record.PushID // ids below this one
	Limit  int
}

// Pushes lists a project's events, newest first.
func (q Q) Pushes(ctx context.Context, project record.ProjectID, f PushFilter) (list []Push, err error) {
	err = q.list(ctx, &list, `SELECT `+pushColumns+` FROM pushes WHERE project_id = $1 AND ($2 = 0 OR id < $2)
		AND CASE $3 WHEN 'planned' THEN planned_at IS NOT NULL WHEN 'set-aside' THEN set_aside_at IS NOT NULL
		AND planned_at IS NULL
			WHEN 'waiting' THEN planned_at IS NULL AND set_aside_at IS NULL ELSE true END
		AND ($4 = '' OR body @> jsonb_build_object('push', jsonb_build_object('updates',
		jsonb_build_array(jsonb_build_object('after', $4::text)))))
		ORDER BY id DESC LIMIT $5`, project, f.Before, f.State, f.Commit, f.Limit)
	return list, err
}

// PushByID finds an event.
func (q Q) PushByID(ctx context.Context, id record.PushID) (p Push, err error) {
	err = q.get(ctx, &p, `SELECT `+pushColumns+` FROM pushes WHERE id = $1`, id)
	return p, err
}

// SetPushAside takes a push out of what is planned.
func (q Q) SetPushAside(ctx context.Context, id record.PushID, note string) error {
	return q.do(ctx, ErrNotFound,
		`UPDATE pushes SET set_aside_at = now(), note = $2 WHERE id = $1 AND planned_at IS NULL AND set_aside_at IS NULL`, id,
		note)
}

// RetryPush puts a push that was set aside back; ErrNotFound when it was not.
func (q Q) RetryPush(ctx context.Context, project record.ProjectID, id record.PushID) error {
	return q.do(ctx, ErrNotFound, `UPDATE pushes SET set_aside_at = NULL, begun = 0, planning_until = NULL, tries = 0,
		received_at = now()
		WHERE project_id = $1 AND id = $2 AND planned_at IS NULL AND set_aside_at IS NOT NULL`, project, id)
}

// RunsOfPushes gives the runs that pushes have started, by push.
func (q Q) RunsOfPushes(ctx context.Context, pushes []record.PushID) (map[record.PushID][]Run, error) {
	var list []Run
	err := q.list(ctx, &list, `SELECT `+runColumns+` WHERE r.push_id = ANY($1) ORDER BY r.number`, pushes)
	m := map[record.PushID][]Run{}
	for _, r := range list {
		m[r.PushID] = append(m[r.PushID], r)
	}
	return m, err
}

// Troubles gives for projects the note of their oldest event that cannot be planned, or was set aside; those without
// are left out.
func (q Q) Troubles(ctx context.Context, projects []record.ProjectID) (map[record.ProjectID]string, error) {
	return textsByID[record.ProjectID](ctx, q, `SELECT DISTINCT ON (project_id) project_id AS id, note AS text FROM pushes
		WHERE project_id = ANY($1) AND planned_at IS NULL AND (tries > 0 OR set_aside_at IS NOT NULL) ORDER BY project_id,
		id`, projects)
}

// PushPlanned marks a push as done, with a note of what came of it.
func (q Q) PushPlanned(ctx context.Context, id record.PushID, note string) error {
	return q.do(ctx, ErrNotFound, `UPDATE pushes SET planned_at = now(), note = $2 WHERE id = $1`, id, note)
}

// PushFailed notes a failed try to plan, and tells how many there were and since when.
func (q Q) PushFailed(ctx context.Context, id record.PushID, note string) (tries int, since time.Time, err error) {
	var row struct {
		Tries    int       `db:"tries"`
		Received time.Time `db:"received_at"`
	}
	err = q.get(ctx, &row, `UPDATE pushes SET tries = tries + 1, note = $2 WHERE id = $1 RETURNING tries, received_at`, id,
		note)
	return row.Tries, row.Received, err
}
