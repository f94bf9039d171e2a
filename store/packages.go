package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/checklist"
	"gentlepiston.example/piston/core/record"
)

// Package is one that a run has made, with what was found in it.
type Package struct {
	ID       record.PackageID         `db:"id"`
	Run      record.RunNumber         `db:"run"`
	Pipeline string                   `db:"pipeline"`
	Branch   string                   `db:"branch"`
	Commit   string                   `db:"commit_id"`
	State    string                   `db:"state"`
	At       time.Time                `db:"at"`
	File     string                   `db:"file"`
	SHA256   string                   `db:"sha256"`
	Size     int64                    `db:"size"`
	Kind     string                   `db:"kind"`
	Platform string                   `db:"platform"`
	App      string                   `db:"app"`
	Version  string                   `db:"version"`
	Build    string                   `db:"build"`
	Findings JSON[[]checklist.Breach] `db:"findings"`
}

const packageColumns = `p.id, r.number AS run, r.pipeline, r.branch, r.commit_id, r.state, p.at, p.file, p.sha256,
	p.size, p.kind, p.platform, p.app, p.version, p.build, p.findings FROM packages p JOIN runs r ON r.id = p.run_id`

// AddPackage writes what was found in one; a step that looks again writes it anew.
func (q Q) AddPackage(ctx context.Context, project record.ProjectID, run record.RunID, step int, p Package,
	facts appfile.Facts) (id record.PackageID, err error) {
	err = q.get(ctx, &id, `INSERT INTO packages (project_id, run_id, step, file, sha256, size, kind, platform, app,
		version, build, facts, findings) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
		ON CONFLICT (run_id, step, file) DO UPDATE SET sha256 = $5, size = $6, kind = $7, platform = $8, app = $9,
			version = $10, build = $11, facts = $12, findings = $13 RETURNING id`, project, run, step, p.File, p.SHA256, p.Size,
		p.Kind, p.Platform, p.App, p.Version, p.Build, asJSON(facts), asJSON(p.Findings.V))
	return id, err
}

// PackageByID finds one of a project.
func (q Q) PackageByID(ctx context.Context, project record.ProjectID, id record.PackageID) (p Package, err error) {
	err = q.get(ctx, &p, `SELECT `+packageColumns+` WHERE p.project_id = $1 AND p.id = $2`, project, id)
	return p, err
}

// PackageFacts is what was found in one.
func (q Q) PackageFacts(ctx context.Context, id record.PackageID) (appfile.Facts, error) {
	var f JSON[appfile.Facts]
	err := q.get(ctx, &f, `SELECT facts FROM packages WHERE id = $1`, id)
	return f.V, err
}

// PackageBefore finds the last one of an app and kind that a passed run of a pipeline has made, before a run, under the
// same name.
func (q Q) PackageBefore(ctx context.Context, project record.ProjectID, p Package) (before Package, err error) {
	err = q.get(ctx, &before, `SELECT `+packageColumns+` WHERE p.project_id = $1 AND p.app = $2 AND p.kind = $3
		AND r.pipeline = $4 AND r.number < $5 AND r.state = 'passed' AND p.file = $6 ORDER BY r.number DESC, p.id DESC
		LIMIT 1`, project, p.App, p.Kind, p.Pipeline, p.Run, p.File)
	return before, err
}

// PackageReleased finds the last one of an app and kind that went to people, before a run: of a run of a tag, or one
// whose version has landed. The same name goes before others.
func (q Q) PackageReleased(ctx context.Context, project record.ProjectID, p Package) (before Package, err error) {
	err = q.get(ctx, &before, `SELECT `+packageColumns+` WHERE p.project_id = $1 AND p.app = $2 AND p.kind = $3
		AND r.number < $4 AND r.state = 'passed' AND (r.trigger = 'tag' OR EXISTS (SELECT 1 FROM versions v
			WHERE v.run_id = r.id AND v.state = 'kept' AND v.landed <> ''))
		ORDER BY r.number DESC, p.file = $5 DESC, p.id DESC LIMIT 1`, project, p.App, p.Kind, p.Run, p.File)
	return before, err
}

// PackageFilter says which are wanted; empty fields match all.
type PackageFilter struct {
	App, Kind, Version, Commit, SHA256, BuildID string
	Run                                         record.RunNumber
	Before                                      record.PackageID
	Limit                                       int
}

// Packages lists those of a project, newest first.
func (q Q) Packages(ctx context.Context, project record.ProjectID, f PackageFilter) (list []Package, err error) {
	err = q.list(ctx, &list, `SELECT `+packageColumns+` WHERE p.project_id = $1 AND ($2 = '' OR p.app = $2)
		AND ($3 = '' OR p.kind = $3) AND ($4 = '' OR p.version = $4 OR p.build = $4) AND starts_with(r.commit_id, $5)
		AND starts_with(p.sha256, $6) AND ($7 = 0 OR r.number = $7) AND ($8 = 0 OR p.id < $8)
		AND ($10 = '' OR p.facts @> jsonb_build_object('programs', jsonb_build_array(jsonb_build_object('build_id', $10))))
		ORDER BY p.id DESC LIMIT $9`, project, f.App, f.Kind, f.Version, f.Commit, f.SHA256, f.Run, f.Before, f.Limit,
		f.BuildID)
	return list, err
}

// ServiceKey is the one by which the service signs what it states.
type ServiceKey struct {
	Public     string `db:"public"` // PEM
	Ciphertext []byte `db:"ciphertext"`
	SealedTo   string `db:"sealed_to"`
}

// ServiceKey finds it.
func (q Q) ServiceKey(ctx context.Context) (k ServiceKey, err error) {
	err = q.get(ctx, &k, `SELECT public, ciphertext, sealed_to FROM service_keys`)
	return k, err
}

// AddServiceKey writes it; when there is one already, that stays. ErrMaster when that it is encrypted to is no more.
func (q Q) AddServiceKey(ctx context.Context, k ServiceKey) error {
	return q.do(ctx, nil, `INSERT INTO service_keys (id, public, ciphertext, sealed_to) VALUES (1, $1, $2, $3)
		ON CONFLICT DO NOTHING`, k.Public, k.Ciphertext, k.SealedTo)
}

// PackageRun is the run of a package.
func (q Q) PackageRun(ctx context.Context, id record.PackageID) (run record.RunID, err error) {
	err = q.get(ctx, &run, `SELECT run_id FROM packages WHERE id = $1`, id)
	return run, err
}
