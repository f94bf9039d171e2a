package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Project is a registered repository's record.
type Project struct {
	ID      record.ProjectID `db:"id"`
	Name    string           `db:"name"`
	Remote  string           `db:"remote"`
	HookKey []byte           `db:"hook_key"`
	Created time.Time        `db:"created_at"`
	Held    string           `db:"held"`
	HeldBy  string           `db:"held_by"`
	AtOnce  int              `db:"at_once"`
	HostNet bool             `db:"host_network"` // its steps may be given a machine's own network
	Trouble string           `db:"hook_trouble"` // why pushes laid beside its repository are not taken in
	Bot
}

// Bot is who lands for a project, and how.
type Bot struct {
	Name     string `db:"bot_name"` // "" for the product's own
	Email    string `db:"bot_email"`
	PushTo   string `db:"push_to"` // an address by ssh; "" for where the repository is read from
	PushHost string `db:"push_host"`
}

const projectColumns = `id, name, remote, hook_key, created_at, held, held_by, at_once, host_network, hook_trouble,
	bot_name, bot_email, push_to, push_host`

// AddProject registers a repository; ErrExists when the name is taken, ErrMaster when that its key is encrypted to is
// no more.
func (q Q) AddProject(ctx context.Context, name, remote string, hookKey []byte, sealedTo string) error {
	return q.do(ctx, nil, `INSERT INTO projects (name, remote, hook_key, hook_key_sealed_to) VALUES ($1, $2, $3, $4)`,
		name, remote, hookKey, sealedTo)
}

// ProjectByName finds a project.
func (q Q) ProjectByName(ctx context.Context, name string) (p Project, err error) {
	err = q.get(ctx, &p, `SELECT `+projectColumns+` FROM projects WHERE name = $1`, name)
	return p, err
}

// ProjectByID finds a project.
func (q Q) ProjectByID(ctx context.Context, id record.ProjectID) (p Project, err error) {
	err = q.get(ctx, &p, `SELECT `+projectColumns+` FROM projects WHERE id = $1`, id)
	return p, err
}

// ProjectsAmong lists projects by name: all, or of some ids.
func (q Q) ProjectsAmong(ctx context.Context, ids []record.ProjectID, all bool, page Page) (list []Project, err error) {
	err = q.list(ctx, &list, `SELECT `+projectColumns+` FROM projects WHERE ($5 OR id = ANY($4))`+paged("name"),
		append(page.args(), ids, all)...)
	return list, err
}

// LocalProjects lists those whose remote is a folder of the server's machine.
func (q Q) LocalProjects(ctx context.Context) (list []Project, err error) {
	err = q.list(ctx, &list, `SELECT `+projectColumns+` FROM projects WHERE remote LIKE '/%' ORDER BY name`)
	return list, err
}

// SetHostNetwork says whether a project's steps may be given a machine's own network.
func (q Q) SetHostNetwork(ctx context.Context, project record.ProjectID, may bool) error {
	return q.do(ctx, ErrNotFound, `UPDATE projects SET host_network = $2 WHERE id = $1`, project, may)
}

// SetBot says who lands for a project, and how.
func (q Q) SetBot(ctx context.Context, project record.ProjectID, b Bot) error {
	return q.do(ctx, ErrNotFound, `UPDATE projects SET bot_name = $2, bot_email = $3, push_to = $4, push_host = $5
		WHERE id = $1`, project, b.Name, b.Email, b.PushTo, b.PushHost)
}

// SetHookTrouble notes why pushes laid beside a project's repository are not taken in; "" when they are.
func (q Q) SetHookTrouble(ctx context.Context, project record.ProjectID, text string) error {
	return q.do(ctx, ErrNotFound, `UPDATE projects SET hook_trouble = $2 WHERE id = $1`, project, text)
}

// SourcesFor lists a project, and those that lend it their source.
func (q Q) SourcesFor(ctx context.Context, project record.ProjectID) (list []Project, err error) {
	err = q.list(ctx, &list,
		`SELECT `+projectColumns+` FROM projects WHERE id = $1 OR id IN (SELECT project_id FROM lendings WHERE to_id = $1)`,
		project)
	return list, err
}

// Lendings lists the names of the projects that a project lends its source to.
func (q Q) Lendings(ctx context.Context, project record.ProjectID) (names []string, err error) {
	err = q.list(ctx, &names,
		`SELECT p.name FROM lendings l JOIN projects p ON p.id = l.to_id WHERE l.project_id = $1 ORDER BY p.name`, project)
	return names, err
}

// SetLendings writes which projects a project lends its source to.
func (q Q) SetLendings(ctx context.Context, project record.ProjectID, to []string) error {
	if err := q.do(ctx, nil, `DELETE FROM lendings WHERE project_id = $1`, project); err != nil {
		return err
	}
	return q.do(ctx, nil, `INSERT INTO lendings SELECT $1, id FROM projects WHERE name = ANY($2) AND id <> $1`, project,
		texts(to))
}
