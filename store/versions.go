package store

import (
	"context"
	"errors"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
)

// Version is one that was handed out, for one platform.
type Version struct {
	ID         int64               `db:"id"`
	ProjectID  record.ProjectID    `db:"project_id"`
	App        string              `db:"app"`
	Platform   string              `db:"platform"`
	Name       string              `db:"name"`
	Key        string              `db:"name_key"`
	Reserved   bool                `db:"reserved"`
	FirstBuild version.BuildNumber `db:"first_build"`
	LastBuild  version.BuildNumber `db:"last_build"`
	RunID      record.RunID        `db:"run_id"`
	Why        string              `db:"why"`
	Lands      bool                `db:"lands"`
	State      VersionState        `db:"state"`
	Landed     string              `db:"landed"`
	LandedAt   *time.Time          `db:"landed_at"`
	Issued     time.Time           `db:"issued_at"`
	Run        record.RunNumber    `db:"run"`
	Pipeline   string              `db:"pipeline"`
	Branch     string              `db:"branch"`
	Commit     string              `db:"commit_id"`
}

// VersionState is what became of a version.
type VersionState string

// The states.
const (
	VersionBuilding VersionState = "building"
	VersionKept     VersionState = "kept"
	VersionVoid     VersionState = "void"
)

const versionColumns = `v.id, v.project_id, v.app, v.platform, v.name, v.name_key, v.reserved, v.first_build,
	v.last_build, v.run_id, v.why, v.lands, v.state, v.landed, v.landed_at, v.issued_at, r.number AS run, r.pipeline,
	r.branch, r.commit_id FROM versions v JOIN runs r ON r.id = v.run_id`

// VersionLine is how far an app's build numbers have come on a platform.
type VersionLine struct {
	App      string              `db:"app"`
	Platform string              `db:"platform"`
	Last     version.BuildNumber `db:"last_build"`
	Floor    version.BuildNumber `db:"floor"`
}

// LockLine holds an app's line of a platform for this transaction. A new one goes on from the project's own count,
// whose numbers packages may bear already.
func (q Q) LockLine(ctx context.Context, project record.ProjectID, app, platform string) (l VersionLine, err error) {
	err = q.do(ctx, nil, `INSERT INTO version_lines (project_id, app, platform, last_build)
		SELECT id, $2, $3, last_build FROM projects WHERE id = $1 ON CONFLICT DO NOTHING`, project, app, platform)
	if err != nil {
		return l, err
	}
	err = q.get(ctx, &l, `SELECT app, platform, last_build, floor FROM version_lines
		WHERE project_id = $1 AND app = $2 AND platform = $3 FOR UPDATE`, project, app, platform)
	return l, err
}

// ProjectCount holds a project's own count of builds for this transaction, and gives it. Apps whose numbers are counted
// share it, so that no two packages of a project have the same.
func (q Q) ProjectCount(ctx context.Context, project record.ProjectID) (last version.BuildNumber, err error) {
	err = q.get(ctx, &last, `SELECT last_build FROM projects WHERE id = $1 FOR UPDATE`, project)
	return last, err
}

// CountOf is a project's own count of builds as it stands.
func (q Q) CountOf(ctx context.Context, project record.ProjectID) (last version.BuildNumber, err error) {
	err = q.get(ctx, &last, `SELECT last_build FROM projects WHERE id = $1`, project)
	return last, err
}

// RaiseProjectCount makes a project's own count go on from a number, when it is higher.
func (q Q) RaiseProjectCount(ctx context.Context, project record.ProjectID, last version.BuildNumber) error {
	return q.do(ctx, nil, `UPDATE projects SET last_build = greatest(last_build, $2) WHERE id = $1`, project, int64(last))
}

// VersionLines lists those of a project.
func (q Q) VersionLines(ctx context.Context, project record.ProjectID) (list []VersionLine, err error) {
	err = q.list(ctx, &list, `SELECT app, platform, last_build, floor FROM version_lines WHERE project_id = $1
		ORDER BY app, platform`, project)
	return list, err
}

// SetLine notes the last number of a line, and its floor. It only rises.
func (q Q) SetLine(ctx context.Context, project record.ProjectID, l VersionLine) error {
	return q.do(ctx, nil, `UPDATE version_lines SET last_build = greatest(last_build, $4), floor = greatest(floor, $5)
		WHERE project_id = $1 AND app = $2 AND platform = $3`, project, l.App, l.Platform, int64(l.Last), int64(l.Floor))
}

// HighestName is the highest name of an app on a platform that is built or was kept; "" when there is none.
func (q Q) HighestName(ctx context.Context, project record.ProjectID, app, platform string) (name string, err error) {
	var names []string
	err = q.list(ctx, &names, `SELECT name FROM versions WHERE project_id = $1 AND app = $2 AND platform = $3
		AND state <> 'void' ORDER BY name_key DESC LIMIT 1`, project, app, platform)
	if len(names) > 0 {
		name = names[0]
	}
	return name, err
}

// NameHolder is the run to which a name belongs; ErrNotFound when it is free.
func (q Q) NameHolder(ctx context.Context, project record.ProjectID, app, platform, key string) (v Version,
	err error) {
	err = q.get(ctx, &v, `SELECT `+versionColumns+` WHERE v.project_id = $1 AND v.app = $2 AND v.platform = $3
		AND v.name_key = $4 AND v.reserved AND v.state <> 'void'`, project, app, platform, key)
	return v, err
}

// AddVersion hands one out; ErrExists when its name or number is another's.
func (q Q) AddVersion(ctx context.Context, v Version) error {
	return q.do(ctx, ErrExists, `INSERT INTO versions (project_id, app, platform, name, name_key, reserved, first_build,
		last_build, run_id, why, lands, state) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, 'building')
		ON CONFLICT DO NOTHING`, v.ProjectID, v.App, v.Platform, v.Name, v.Key, v.Reserved, int64(v.FirstBuild),
		int64(v.LastBuild), v.RunID, v.Why, v.Lands)
}

// VersionsOf lists what a run has been handed out and still has.
func (q Q) VersionsOf(ctx context.Context, run record.RunID) (list []Version, err error) {
	err = q.list(ctx, &list, `SELECT `+versionColumns+` WHERE v.run_id = $1 AND v.state <> 'void'
		ORDER BY v.app, v.platform`, run)
	return list, err
}

// SettleVersions notes what became of a run's versions.
func (q Q) SettleVersions(ctx context.Context, run record.RunID, s VersionState) error {
	return q.do(ctx, nil, `UPDATE versions SET state = $2 WHERE run_id = $1 AND state = 'building'`, run, string(s))
}

// ReviveVersions gives a run that goes on the versions it had last, as far as nobody else has their names now.
func (q Q) ReviveVersions(ctx context.Context, run record.RunID) error {
	return q.do(ctx, nil, `UPDATE versions v SET state = 'building' WHERE v.run_id = $1
		AND v.id IN (SELECT max(id) FROM versions WHERE run_id = $1 GROUP BY app, platform)
		AND NOT EXISTS (SELECT 1 FROM versions o WHERE o.project_id = v.project_id AND o.app = v.app
			AND o.platform = v.platform AND o.name_key = v.name_key AND o.reserved AND o.state <> 'void' AND o.id <> v.id)`, run)
}

// NoteLanded notes the commit that brought a run's version of an app back.
func (q Q) NoteLanded(ctx context.Context, run record.RunID, app, commit string) error {
	return q.do(ctx, nil, `UPDATE versions SET landed = $3, landed_at = now()
		WHERE run_id = $1 AND app = $2 AND state <> 'void'`, run, app, commit)
}

// LandsBefore finds the lowest version of an app below another that a run at work is still to land; ErrNotFound when
// there is none.
func (q Q) LandsBefore(ctx context.Context, project record.ProjectID, app, key string, run record.RunID) (v Version,
	err error) {
	err = q.get(ctx, &v, `SELECT `+versionColumns+` WHERE v.project_id = $1 AND v.app = $2 AND v.name_key < $3
		AND v.run_id <> $4 AND v.lands AND v.landed = '' AND v.state = 'building' AND EXISTS (
			SELECT 1 FROM attempts a JOIN jobs j ON j.id = a.job_id WHERE j.run_id = v.run_id AND a.state = 'running')
		ORDER BY v.name_key LIMIT 1`, project, app, key, run)
	return v, err
}

// IsLanded tells whether a name of an app was landed by the service.
func (q Q) IsLanded(ctx context.Context, project record.ProjectID, app, key string) (is bool, err error) {
	err = q.get(ctx, &is, `SELECT EXISTS (SELECT 1 FROM versions WHERE project_id = $1 AND app = $2 AND name_key = $3
		AND landed <> '')`, project, app, key)
	return is, err
}

// SetRunVersion makes a version that of a run, with what its steps find of it.
func (q Q) SetRunVersion(ctx context.Context, run record.RunID, name string, build version.BuildNumber,
	env map[string]string) error {
	return q.do(ctx, nil, `UPDATE runs SET version_name = $2, build_number = greatest(build_number, $3),
		env = CASE jsonb_typeof(env) WHEN 'object' THEN env ELSE '{}' END || $4::jsonb WHERE id = $1`,
		run, name, int64(build), asJSON(env))
}

// Released are the versions of a release, whatever became of them.
func (q Q) Released(ctx context.Context, r ReleaseKey) (list []Version, err error) {
	err = q.list(ctx, &list, `SELECT `+versionColumns+` WHERE v.project_id = $1 AND v.app = $2 AND v.name_key = $3
		ORDER BY v.id DESC LIMIT 100`, r.Project, r.App, r.Key)
	return list, err
}

// LastReleased is the commit of the highest name that an app has kept on a platform, below another when that is not "";
// final passes by what came before a release, such as 2.0.0-rc.1. It is "" when there is none.
func (q Q) LastReleased(ctx context.Context, project record.ProjectID, app, platform, below string,
	final bool) (commit string, err error) {
	if below == "" {
		below = "\U0010ffff" // behind every key
	}
	err = q.get(ctx, &commit, `SELECT r.commit_id FROM versions v JOIN runs r ON r.id = v.run_id
		WHERE v.project_id = $1 AND v.app = $2 AND v.platform = $3 AND v.name_key < $4 AND v.state <> 'void'
		AND v.reserved AND v.state = 'kept' AND NOT ($5 AND strpos(v.name, '-') > 0)
		ORDER BY v.name_key DESC LIMIT 1`, project, app, platform, below, final)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return commit, err
}

// VersionFilter chooses of a project's versions.
type VersionFilter struct {
	App, Platform, State string // "" for all
	Contains             string // in the name
	Before               int64  // only ids below; 0 for all
	Limit                int
}

// Ledger lists a project's versions, the newest first.
func (q Q) Ledger(ctx context.Context, project record.ProjectID, f VersionFilter) (list []Version, err error) {
	err = q.list(ctx, &list, `SELECT `+versionColumns+` WHERE v.project_id = $1 AND ($2 = '' OR v.app = $2)
		AND ($3 = '' OR v.platform = $3) AND ($4 = '' OR v.state = $4) AND strpos(v.name, $5) > 0
		AND ($6 = 0 OR v.id < $6) ORDER BY v.id DESC LIMIT $7`, project, f.App, f.Platform, f.State, f.Contains,
		f.Before, f.Limit)
	return list, err
}
