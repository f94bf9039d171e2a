package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Note is what is told of a release in one language.
type Note struct {
	Language    string     `db:"language"`
	Draft       string     `db:"draft"`
	File        string     `db:"file"`
	Problem     string     `db:"problem"`
	Main        bool       `db:"main"`      // in the language of the commits
	Corrected   *string    `db:"corrected"` // nil: it is as it was drafted
	CorrectedBy string     `db:"corrected_by"`
	CorrectedAt *time.Time `db:"corrected_at"`
	Revision    int        `db:"revision"`
}

// ReleaseKey is whose notes they are: the version of an app, by its name's order.
type ReleaseKey struct {
	Project  record.ProjectID
	App, Key string
}

const noteColumns = `language, draft, file, problem, main, corrected, corrected_by, corrected_at, revision
	FROM release_notes`

// Notes are those of a release, by language.
func (q Q) Notes(ctx context.Context, r ReleaseKey) (list []Note, err error) {
	err = q.list(ctx, &list, `SELECT `+noteColumns+` WHERE project_id = $1 AND app = $2 AND name_key = $3
		ORDER BY language`, r.Project, r.App, r.Key)
	return list, err
}

// Note is that in one language; ErrNotFound when there is none. It is held for this transaction.
func (q Q) Note(ctx context.Context, r ReleaseKey, language string) (n Note, err error) {
	err = q.get(ctx, &n, `SELECT `+noteColumns+` WHERE project_id = $1 AND app = $2 AND name_key = $3
		AND language = $4 FOR UPDATE`, r.Project, r.App, r.Key, language)
	return n, err
}

// DraftNotes puts drafts in the place of those before. Corrections stay.
func (q Q) DraftNotes(ctx context.Context, r ReleaseKey, list []Note) error {
	err := q.do(ctx, nil, `DELETE FROM release_notes WHERE project_id = $1 AND app = $2 AND name_key = $3
		AND corrected IS NULL`, r.Project, r.App, r.Key)
	for _, n := range list {
		if err == nil {
			err = q.do(ctx, nil, `INSERT INTO release_notes (project_id, app, name_key, language, draft, file, problem,
				main) VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (project_id, app, name_key, language)
				DO UPDATE SET draft = excluded.draft, file = excluded.file, problem = excluded.problem,
				main = excluded.main`,
				r.Project, r.App, r.Key, n.Language, n.Draft, n.File, n.Problem, n.Main)
		}
	}
	return err
}

// CorrectNote writes what a person says instead of a draft. ErrNotFound when the revision is another by now; 0 is that
// of a language without notes, and ErrExists says that there are some by now.
func (q Q) CorrectNote(ctx context.Context, r ReleaseKey, language, text, by string, revision int) error {
	if revision == 0 {
		return q.do(ctx, nil, `INSERT INTO release_notes (project_id, app, name_key, language, corrected, corrected_by,
			corrected_at) VALUES ($1, $2, $3, $4, $5, $6, now())`, r.Project, r.App, r.Key, language, text, by)
	}
	return q.do(ctx, ErrNotFound, `UPDATE release_notes SET corrected = $5, corrected_by = $6, corrected_at = now(),
		revision = revision + 1 WHERE project_id = $1 AND app = $2 AND name_key = $3 AND language = $4
		AND revision = $7`, r.Project, r.App, r.Key, language, text, by, revision)
}

// TakeBackNote makes notes those of the draft again; without one there are none. ErrNotFound when the revision is
// another by now.
func (q Q) TakeBackNote(ctx context.Context, r ReleaseKey, language string, revision int) error {
	err := q.do(ctx, ErrNotFound, `UPDATE release_notes SET corrected = NULL, corrected_by = '', corrected_at = NULL,
		revision = revision + 1 WHERE project_id = $1 AND app = $2 AND name_key = $3 AND language = $4
		AND revision = $5`, r.Project, r.App, r.Key, language, revision)
	if err != nil {
		return err
	}
	return q.do(ctx, nil, `DELETE FROM release_notes WHERE project_id = $1 AND app = $2 AND name_key = $3
		AND language = $4 AND corrected IS NULL AND draft = '' AND file = ''`, r.Project, r.App, r.Key, language)
}
