package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Shell is a way into a workspace that stays: a shell, or files that are taken out.
type Shell struct {
	ID        record.ShellID   `db:"id"`
	AttemptID record.AttemptID `db:"attempt_id"`
	Kind      string           `db:"kind"` // shell or files
	Who       string           `db:"who"`
	Terminal  bool             `db:"terminal"`
	Cols      int              `db:"cols"`
	Rows      int              `db:"rows"`
	Command   string           `db:"command"`
	Path      string           `db:"path"`
	Secrets   Texts            `db:"secrets"`
	GrantedBy string           `db:"granted_by"`
	Asked     time.Time        `db:"asked_at"`
	Opened    *time.Time       `db:"opened_at"`
	Ended     *time.Time       `db:"ended_at"`
	EndedWhy  string           `db:"ended_why"`
	ExitCode  *int             `db:"exit_code"`
	Printed   int64            `db:"printed"`
}

var shellColumns = columnsOf[Shell]("h")

// AddShell writes one that is asked for.
func (q Q) AddShell(ctx context.Context, h Shell) (id record.ShellID, err error) {
	err = q.get(ctx, &id, `INSERT INTO shells (attempt_id, kind, who, terminal, cols, rows, command, path, secrets,
			granted_by) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`,
		h.AttemptID, h.Kind, h.Who, h.Terminal, h.Cols, h.Rows, h.Command, h.Path, h.Secrets, h.GrantedBy)
	return id, err
}

// ShellByID finds one.
func (q Q) ShellByID(ctx context.Context, id record.ShellID) (h Shell, err error) {
	err = q.get(ctx, &h, `SELECT `+shellColumns+` FROM shells h WHERE h.id = $1`, id)
	return h, err
}

// ShellsToOpen lists those of a workspace that its runner is to open.
func (q Q) ShellsToOpen(ctx context.Context, attempt record.AttemptID) (list []Shell, err error) {
	err = q.list(ctx, &list, `SELECT `+shellColumns+` FROM shells h WHERE h.attempt_id = $1 AND h.opened_at IS NULL
		AND h.ended_at IS NULL AND (h.secrets = '{}' OR h.granted_by <> '') ORDER BY h.id`, attempt)
	return list, err
}

// ShellFilter narrows the list of a project's shells.
type ShellFilter struct {
	Project record.ProjectID
	Run     record.RunNumber // 0 any
	Before  record.ShellID   // 0 from the latest on
	Limit   int
}

// RunsShell is a shell with the run and the job it was in.
type RunsShell struct {
	Shell
	Run record.RunNumber `db:"run"`
	Job string           `db:"job"`
}

// Shells lists a project's, the latest first.
func (q Q) Shells(ctx context.Context, f ShellFilter) (list []RunsShell, err error) {
	err = q.list(ctx, &list, `SELECT `+shellColumns+`, r.number AS run, j.name AS job FROM shells h
		JOIN attempts a ON a.id = h.attempt_id JOIN jobs j ON j.id = a.job_id JOIN runs r ON r.id = a.run_id
		WHERE a.project_id = $1 AND ($2 = 0 OR r.number = $2) AND ($3 = 0 OR h.id < $3) ORDER BY h.id DESC LIMIT $4`,
		f.Project, f.Run, f.Before, f.Limit)
	return list, err
}

// GrantShell lets one have the secrets it asks for; ErrNotFound when it waits for nobody.
func (q Q) GrantShell(ctx context.Context, id record.ShellID, by string) error {
	return q.do(ctx, ErrNotFound, `UPDATE shells SET granted_by = $2 WHERE id = $1 AND ended_at IS NULL
		AND granted_by = '' AND secrets <> '{}'`, id, by)
}

// OpenShell notes that a runner has opened one; ErrNotFound when it was opened before, or is over.
func (q Q) OpenShell(ctx context.Context, attempt record.AttemptID, id record.ShellID) error {
	return q.do(ctx, ErrNotFound, `UPDATE shells SET opened_at = now() WHERE id = $1 AND attempt_id = $2
		AND opened_at IS NULL AND ended_at IS NULL AND (secrets = '{}' OR granted_by <> '')`, id, attempt)
}

// EndShell notes how one ended; ErrNotFound when it is over already.
func (q Q) EndShell(ctx context.Context, id record.ShellID, why string, code *int) error {
	return q.do(ctx, ErrNotFound, `UPDATE shells SET ended_at = now(), ended_why = $2, exit_code = $3 WHERE id = $1
		AND ended_at IS NULL`, id, why, code)
}

// AddShellPart keeps a piece of what was shown in one, which is of so many bytes printed.
func (q Q) AddShellPart(ctx context.Context, id record.ShellID, number int, text string, printed int64) error {
	return q.do(ctx, nil, `WITH part AS (INSERT INTO shell_parts (shell_id, number, text) VALUES ($1, $2, $3))
		UPDATE shells SET printed = printed + $4 WHERE id = $1`, id, number, text, printed)
}

// ShellPart is a piece of what was shown in one; ErrNotFound behind the last.
func (q Q) ShellPart(ctx context.Context, id record.ShellID, number int) (text string, err error) {
	err = q.get(ctx, &text, `SELECT text FROM shell_parts WHERE shell_id = $1 AND number = $2`, id, number)
	return text, err
}
