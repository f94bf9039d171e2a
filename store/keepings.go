package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Cache is one saved copy of a cache.
type Cache struct {
	ID    int64  `db:"id"`
	Name  string `db:"name"`
	Guard string `db:"guard"` // of the run that saved it
	Gated bool   `db:"gated"` // it may hold what a secret has opened
	Key   string `db:"key"`
	Size  int64  `db:"size"`
	Blob  string `db:"blob"`
}

// CacheByKey finds a copy that a run with the same guard saved, and notes its use. Whatever is gated is found only when
// that may be.
func (q Q) CacheByKey(ctx context.Context, project record.ProjectID, guard, key string, gated bool) (c Cache,
	err error) {
	err = q.get(ctx, &c, `UPDATE caches SET last_used_at = now() WHERE project_id = $1 AND guard = $2 AND key = $3 AND ($4
		OR NOT gated)
		RETURNING id, name, guard, gated, key, size, blob`, project, guard, key, gated)
	return c, err
}

// AddCache notes a saved copy; ErrExists when there is one of the key and guard already, which stays: the content is
// the same.
func (q Q) AddCache(ctx context.Context, project record.ProjectID, c Cache) error {
	return q.do(ctx, ErrExists,
		`INSERT INTO caches (project_id, name, guard, gated, key, size, blob) VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (project_id, guard, key) DO NOTHING`, project, c.Name, c.Guard, c.Gated, c.Key, c.Size, c.Blob)
}

// SetCacheUse notes what came of a cache in an attempt.
func (q Q) SetCacheUse(ctx context.Context, u CacheUse) error {
	return q.do(ctx, nil, `INSERT INTO cache_uses (attempt_id, name, key, hit, saved, size, took_ms, note)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
		ON CONFLICT (attempt_id, name) DO UPDATE SET key = $3, hit = $4, saved = $5, size = $6, took_ms = $7, note = $8`,
		u.AttemptID, u.Name, u.Key, u.Hit, u.Saved, u.Size, u.TookMs, u.Note)
}

// CacheUse is what came of a cache in an attempt.
type CacheUse struct {
	AttemptID record.AttemptID `db:"attempt_id"`
	Name      string           `db:"name"`
	Key       string           `db:"key"`
	Hit       bool             `db:"hit"`
	Saved     bool             `db:"saved"`
	Size      int64            `db:"size"`
	TookMs    int64            `db:"took_ms"`
	Note      string           `db:"note"`
}

// CacheUses lists what came of the caches in a run.
func (q Q) CacheUses(ctx context.Context, run record.RunID) (list []CacheUse, err error) {
	err = q.list(ctx, &list,
		`SELECT `+columnsOf[CacheUse]("u")+` FROM cache_uses u JOIN attempts a ON a.id = u.attempt_id WHERE a.run_id = $1
		ORDER BY u.attempt_id, u.name`, run)
	return list, err
}

// Handover is what a job hands on.
type Handover struct {
	Job  string `db:"job"`
	Name string `db:"name"`
	Blob string `db:"blob"`
	Size int64  `db:"size"`
}

// AddHandover notes what an attempt hands on; ErrExists when it has done so already.
func (q Q) AddHandover(ctx context.Context, attempt record.AttemptID, h Handover) error {
	return q.do(ctx, nil, `INSERT INTO handovers (attempt_id, name, blob, size) VALUES ($1, $2, $3, $4)`, attempt, h.Name,
		h.Blob, h.Size)
}

// HandoverOf finds what the latest attempt of a run's job that passed hands on.
func (q Q) HandoverOf(ctx context.Context, run record.RunID, job, name string) (h Handover, err error) {
	err = q.get(ctx, &h, `SELECT j.name AS job, h.name, h.blob, h.size FROM handovers h JOIN attempts a
		ON a.id = h.attempt_id JOIN jobs j ON j.id = a.job_id
		WHERE a.run_id = $1 AND j.name = $2 AND h.name = $3 ORDER BY a.number DESC LIMIT 1`, run, job, name)
	return h, err
}

// Artifact is a kept file.
type Artifact struct {
	ID      record.ArtifactID `db:"id"`
	Job     string            `db:"job"`
	Name    string            `db:"name"`
	Path    string            `db:"path"`
	Size    int64             `db:"size"`
	SHA256  string            `db:"sha256"`
	Blob    string            `db:"blob"`
	Created time.Time         `db:"created_at"`
}

// AddArtifact notes a kept file; ErrExists when this attempt has kept it already.
func (q Q) AddArtifact(ctx context.Context, attempt record.AttemptID, a Artifact) error {
	return q.do(ctx, nil,
		`INSERT INTO artifacts (attempt_id, name, path, size, sha256, blob) VALUES ($1, $2, $3, $4, $5, $6)`,
		attempt, a.Name, a.Path, a.Size, a.SHA256, a.Blob)
}

const artifactColumns = `f.id, j.name AS job, f.name, f.path, f.size, f.sha256, f.blob, f.created_at FROM artifacts f
	JOIN attempts a ON a.id = f.attempt_id JOIN jobs j ON j.id = a.job_id`

// Artifacts lists what the latest attempts of a run's jobs have kept.
func (q Q) Artifacts(ctx context.Context, run record.RunID) (list []Artifact, err error) {
	err = q.list(ctx, &list, `SELECT `+artifactColumns+` WHERE a.run_id = $1
		AND a.number = (SELECT max(number) FROM attempts WHERE job_id = a.job_id) ORDER BY j.position, f.name, f.path`, run)
	return list, err
}

// ArtifactByID finds a kept file of a run.
func (q Q) ArtifactByID(ctx context.Context, run record.RunID, id record.ArtifactID) (f Artifact, err error) {
	err = q.get(ctx, &f, `SELECT `+artifactColumns+` WHERE a.run_id = $1 AND f.id = $2`, run, id)
	return f, err
}
