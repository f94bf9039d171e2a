package store

import (
	"context"
	"time"
)

// Project is a registered repository's record.
type Project struct {
	ID      int64     `db:"id"`
	Name    string    `db:"name"`
	Remote  string    `db:"remote"`
	HookKey []byte    `db:"hook_key"`
	Created time.Time `db:"created_at"`
	Held    string    `db:"held"`
	HeldBy  string    `db:"held_by"`
	AtOnce  int       `db:"at_once"`
}

const projectColumns = `id, name, remote, hook_key, created_at, held, held_by, at_once`

// AddProject registers a repository; ErrExists when the name is taken, ErrMaster when that its key is encrypted to is
// no more.
func (q Q) AddProject(ctx context.Context, name, remote string, hookKey []byte, sealedTo string) error {
	return q.do(ctx, nil, `INSERT INTO projects (name, remote, hook_key, hook_key_sealed_to) VALUES ($1, $2, $3, $4)`, name, remote, hookKey, sealedTo)
}

// ProjectByName finds a project.
func (q Q) ProjectByName(ctx context.Context, name string) (p Project, err error) {
	err = q.get(ctx, &p, `SELECT `+projectColumns+` FROM projects WHERE name = $1`, name)
	return p, err
}

// ProjectByID finds a project.
func (q Q) ProjectByID(ctx context.Context, id int64) (p Project, err error) {
	err = q.get(ctx, &p, `SELECT `+projectColumns+` FROM projects WHERE id = $1`, id)
	return p, err
}

// ProjectsAmong lists projects by name: all, or of some ids.
func (q Q) ProjectsAmong(ctx context.Context, ids []int64, all bool, page Page) (list []Project, err error) {
	err = q.list(ctx, &list, `SELECT `+projectColumns+` FROM projects WHERE ($5 OR id = ANY($4))`+paged("name"), append(page.args(), ids, all)...)
	return list, err
}

// LocalProjects lists those whose remote is a folder of the server's machine.
func (q Q) LocalProjects(ctx context.Context) (list []Project, err error) {
	err = q.list(ctx, &list, `SELECT `+projectColumns+` FROM projects WHERE remote LIKE '/%' ORDER BY name`)
	return list, err
}

// SourcesFor lists a project, and those that lend it their source.
func (q Q) SourcesFor(ctx context.Context, project int64) (list []Project, err error) {
	err = q.list(ctx, &list, `SELECT `+projectColumns+` FROM projects WHERE id = $1 OR id IN (SELECT project_id FROM lendings WHERE to_id = $1)`, project)
	return list, err
}

// Lendings lists the names of the projects that a project lends its source to.
func (q Q) Lendings(ctx context.Context, project int64) (names []string, err error) {
	err = q.list(ctx, &names, `SELECT p.name FROM lendings l JOIN projects p ON p.id = l.to_id WHERE l.project_id = $1 ORDER BY p.name`, project)
	return names, err
}

// SetLendings writes which projects a project lends its source to.
func (q Q) SetLendings(ctx context.Context, project int64, to []string) error {
	if err := q.do(ctx, nil, `DELETE FROM lendings WHERE project_id = $1`, project); err != nil {
		return err
	}
	return q.do(ctx, nil, `INSERT INTO lendings SELECT $1, id FROM projects WHERE name = ANY($2) AND id <> $1`, project, texts(to))
}

// Push is a recorded report of changed refs.
type Push struct {
	ID        int64  `db:"id"`
	ProjectID int64  `db:"project_id"`
	Body      []byte `db:"body"`
	Tries     int    `db:"tries"`
}

// AddPush records a push once for each delivery id; again tells that it was there before.
func (q Q) AddPush(ctx context.Context, project int64, delivery string, body []byte) (id int64, again bool, err error) {
	err = q.get(ctx, &id, `INSERT INTO pushes (project_id, delivery, body) VALUES ($1, $2, $3)
		ON CONFLICT (project_id, delivery) DO NOTHING RETURNING id`, project, delivery, body)
	if err == ErrNotFound {
		err = q.get(ctx, &id, `SELECT id FROM pushes WHERE project_id = $1 AND delivery = $2`, project, delivery)
		return id, true, err
	}
	return id, false, err
}

// TakePush locks an unplanned push for the transaction; ErrNotFound when it is planned or another has it.
func (q Q) TakePush(ctx context.Context, id int64) (p Push, err error) {
	err = q.get(ctx, &p, `SELECT id, project_id, body, tries FROM pushes
		WHERE id = $1 AND planned_at IS NULL FOR UPDATE SKIP LOCKED`, id)
	return p, err
}

// UnplannedPushes lists the ids of events that are to be planned now, oldest first: those received before a time, and
// the service's own, whose delivery has a space. After n tries the next comes when n²/2 seconds have passed since it
// was received.
func (q Q) UnplannedPushes(ctx context.Context, before time.Time) (ids []int64, err error) {
	err = q.list(ctx, &ids, `SELECT id FROM pushes WHERE planned_at IS NULL AND (received_at < $1 OR delivery LIKE '% %')
		AND received_at + tries * tries * interval '0.5 seconds' <= now() ORDER BY id LIMIT 100`, before)
	return ids, err
}

// Troubles gives for projects the note of their oldest event that cannot be planned; those without are left out.
func (q Q) Troubles(ctx context.Context, projects []int64) (map[int64]string, error) {
	return q.textsByID(ctx, `SELECT DISTINCT ON (project_id) project_id AS id, note AS text FROM pushes
		WHERE project_id = ANY($1) AND planned_at IS NULL AND tries > 0 ORDER BY project_id, id`, projects)
}

// PushPlanned marks a push as done, with a note of what came of it.
func (q Q) PushPlanned(ctx context.Context, id int64, note string) error {
	return q.do(ctx, ErrNotFound, `UPDATE pushes SET planned_at = now(), note = $2 WHERE id = $1`, id, note)
}

// PushFailed notes a failed try to plan, and tells how many there were and since when.
func (q Q) PushFailed(ctx context.Context, id int64, note string) (tries int, since time.Time, err error) {
	var row struct {
		Tries    int       `db:"tries"`
		Received time.Time `db:"received_at"`
	}
	err = q.get(ctx, &row, `UPDATE pushes SET tries = tries + 1, note = $2 WHERE id = $1 RETURNING tries, received_at`, id, note)
	return row.Tries, row.Received, err
}
