package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
)

// Release is a version of an app that is to go to people.
type Release struct {
	ID           record.ReleaseID                     `db:"id"`
	ProjectID    record.ProjectID                     `db:"project_id"`
	Project      string                               `db:"project"`
	App          string                               `db:"app"`
	Name         string                               `db:"name"`
	Key          string                               `db:"name_key"`
	Builds       JSON[map[string]version.BuildNumber] `db:"builds"` // by the platform
	RunID        record.RunID                         `db:"run_id"`
	Run          record.RunNumber                     `db:"run"`
	Pipeline     string                               `db:"pipeline"`
	Branch       string                               `db:"branch"`
	Tag          string                               `db:"tag"`
	Commit       string                               `db:"commit_id"`
	Made         time.Time                            `db:"made_at"`
	MadeBy       string                               `db:"made_by"` // "" its run
	Withdrawn    *time.Time                           `db:"withdrawn_at"`
	WithdrawnBy  string                               `db:"withdrawn_by"`
	WithdrawnWhy string                               `db:"withdrawn_why"`
	Packages     int                                  `db:"packages"`
	Size         int64                                `db:"size"`
	Went         JSON[[]Went]                         `db:"went"` // the last to each channel
}

// Went is where a release went, and how it stands there.
type Went struct {
	Outlet  string            `json:"outlet"`
	Channel string            `json:"channel"`
	State   publication.State `json:"state"`
	OutTo   int               `json:"out_to"` // of a hundred people
}

const releaseColumns = `l.id, l.project_id, p.name AS project, l.app, l.name, l.name_key, l.builds, l.run_id,
	r.number AS run, r.pipeline, r.branch, r.tag, r.commit_id, l.made_at, l.made_by, l.withdrawn_at, l.withdrawn_by,
	l.withdrawn_why, (SELECT count(*) FROM release_packages k WHERE k.release_id = l.id) AS packages,
	(SELECT coalesce(sum(f.size), 0)::bigint FROM release_packages k JOIN artifacts f ON f.id = k.artifact_id
		WHERE k.release_id = l.id) AS size,
	(SELECT coalesce(jsonb_agg(jsonb_build_object('outlet', o.name, 'channel', u.channel, 'state', u.state,
			'out_to', u.out_to) ORDER BY u.id), '[]') FROM publications u JOIN outlets o ON o.id = u.outlet_id
		WHERE u.release_id = l.id AND NOT EXISTS (SELECT 1 FROM publications x WHERE x.release_id = u.release_id
			AND x.outlet_id = u.outlet_id AND x.channel = u.channel AND x.id > u.id)) AS went
	FROM releases l JOIN projects p ON p.id = l.project_id JOIN runs r ON r.id = l.run_id`

// ReleasePart is a package of a release, and the kept file that it is.
type ReleasePart struct {
	Package
	Artifact record.ArtifactID `db:"artifact_id"`
	Blob     string            `db:"blob"`
}

// AddRelease writes one with its packages, and sets its id; ErrExists when there is one of that name that is not
// withdrawn.
func (q Q) AddRelease(ctx context.Context, r *Release, parts []ReleasePart) error {
	err := q.get(ctx, &r.ID, `INSERT INTO releases (project_id, app, name, name_key, builds, run_id, made_by)
		VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id`, r.ProjectID, r.App, r.Name, r.Key, asJSON(r.Builds.V), r.RunID,
		r.MadeBy)
	for _, p := range parts {
		if err == nil {
			err = q.do(ctx, nil, `INSERT INTO release_packages (release_id, package_id, artifact_id) VALUES ($1, $2, $3)`,
				r.ID, p.ID, p.Artifact)
		}
	}
	return err
}

// ReleaseByID finds one.
func (q Q) ReleaseByID(ctx context.Context, id record.ReleaseID) (r Release, err error) {
	err = q.get(ctx, &r, `SELECT `+releaseColumns+` WHERE l.id = $1`, id)
	return r, err
}

// ReleaseByName finds the last one of an app's version: that which is not withdrawn, when there is one.
func (q Q) ReleaseByName(ctx context.Context, k ReleaseKey) (r Release, err error) {
	err = q.get(ctx, &r, `SELECT `+releaseColumns+` WHERE l.project_id = $1 AND l.app = $2 AND l.name_key = $3
		ORDER BY l.withdrawn_at IS NULL DESC, l.id DESC LIMIT 1`, k.Project, k.App, k.Key)
	return r, err
}

// ReleasesOf lists those that a run's packages went into.
func (q Q) ReleasesOf(ctx context.Context, run record.RunID) (list []Release, err error) {
	err = q.list(ctx, &list, `SELECT `+releaseColumns+` WHERE l.run_id = $1 ORDER BY l.id`, run)
	return list, err
}

// ReleaseFilter narrows a list of releases. Zero fields do not.
type ReleaseFilter struct {
	App, Contains string
	Withdrawn     *bool
	Before        record.ReleaseID
	Limit         int
}

// Releases lists those of a project, newest first.
func (q Q) Releases(ctx context.Context, project record.ProjectID, f ReleaseFilter) (list []Release, err error) {
	err = q.list(ctx, &list, `SELECT `+releaseColumns+` WHERE l.project_id = $1 AND ($2 = '' OR l.app = $2)
		AND strpos(l.name, $3) > 0 AND ($4::boolean IS NULL OR (l.withdrawn_at IS NOT NULL) = $4)
		AND ($5 = 0 OR l.id < $5) ORDER BY l.id DESC LIMIT $6`, project, f.App, f.Contains, f.Withdrawn, f.Before, f.Limit)
	return list, err
}

// ReleaseParts lists the packages of a release.
func (q Q) ReleaseParts(ctx context.Context, id record.ReleaseID) (list []ReleasePart, err error) {
	err = q.list(ctx, &list, `SELECT k.artifact_id, f.blob, `+packageColumns+`
		JOIN release_packages k ON k.package_id = p.id JOIN artifacts f ON f.id = k.artifact_id
		WHERE k.release_id = $1 ORDER BY p.platform, p.file`, id)
	return list, err
}

// LockRelease finds one and locks it: what becomes of it comes one after the other.
func (q Q) LockRelease(ctx context.Context, id record.ReleaseID) (r Release, err error) {
	err = q.get(ctx, &r, `SELECT `+releaseColumns+` WHERE l.id = $1 FOR UPDATE OF l`, id)
	return r, err
}

// Withdraw marks a release as one that is to go nowhere any more; ErrNotFound when it is already.
func (q Q) Withdraw(ctx context.Context, id record.ReleaseID, by, why string) error {
	return q.do(ctx, ErrNotFound, `UPDATE releases SET withdrawn_at = now(), withdrawn_by = $2, withdrawn_why = $3
		WHERE id = $1 AND withdrawn_at IS NULL`, id, by, why)
}
