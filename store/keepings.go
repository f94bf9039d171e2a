package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

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
