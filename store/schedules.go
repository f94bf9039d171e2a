package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Schedule is when a pipeline is due next.
type Schedule struct {
	ProjectID record.ProjectID `db:"project_id"`
	Project   string           `db:"project"`
	Pipeline  string           `db:"pipeline"`
	Name      string           `db:"name"`
	Cron      string           `db:"cron"`
	Zone      string           `db:"zone"`
	Branch    string           `db:"branch"`
	Next      time.Time        `db:"next_at"`
	LastRun   record.RunNumber `db:"last_run"`
	Note      string           `db:"note"`
}

const scheduleColumns = `s.project_id, p.name AS project, s.pipeline, s.name, s.cron, s.zone, s.branch, s.next_at,
	s.last_run, s.note
	FROM schedules s JOIN projects p ON p.id = s.project_id`

// SetSchedules makes a project's schedules those of a list. One that is as it was keeps its next time.
func (q Q) SetSchedules(ctx context.Context, project record.ProjectID, list []Schedule) error {
	keep := []string{}
	for _, s := range list {
		keep = append(keep, s.Pipeline+"\x1f"+s.Name)
		err := q.do(ctx, nil,
			`INSERT INTO schedules (project_id, pipeline, name, cron, zone, branch, next_at) VALUES ($1, $2, $3, $4, $5, $6, $7)
			ON CONFLICT (project_id, pipeline, name) DO UPDATE SET cron = $4, zone = $5, branch = $6,
				next_at = CASE WHEN schedules.cron = $4 AND schedules.zone = $5 THEN schedules.next_at ELSE $7 END`,
			project, s.Pipeline, s.Name, s.Cron, s.Zone, s.Branch, s.Next)
		if err != nil {
			return err
		}
	}
	return q.do(ctx, nil, `DELETE FROM schedules WHERE project_id = $1 AND NOT pipeline || chr(31) || name = ANY($2)`,
		project, keep)
}

// DueSchedules lists schedules whose time has come.
func (q Q) DueSchedules(ctx context.Context, now time.Time) (list []Schedule, err error) {
	err = q.list(ctx, &list, `SELECT `+scheduleColumns+` WHERE s.next_at <= $1 ORDER BY s.next_at LIMIT 50`, now)
	return list, err
}

// TakeSchedule locks one that is still due as it was read; ErrNotFound when another server has dealt with it.
func (q Q) TakeSchedule(ctx context.Context, was Schedule) (s Schedule, err error) {
	err = q.get(ctx, &s, `SELECT `+scheduleColumns+
		` WHERE s.project_id = $1 AND s.pipeline = $2 AND s.name = $3 AND s.next_at = $4
		FOR UPDATE OF s SKIP LOCKED`, was.ProjectID, was.Pipeline, was.Name, was.Next)
	return s, err
}

// ScheduleDone moves a schedule on to its next time. A note stays until there is another.
func (q Q) ScheduleDone(ctx context.Context, s Schedule, next time.Time, note string) error {
	return q.do(ctx, nil, `UPDATE schedules SET next_at = $4, note = CASE WHEN $5 = '' THEN note ELSE $5 END
		WHERE project_id = $1 AND pipeline = $2 AND name = $3`, s.ProjectID, s.Pipeline, s.Name, next, note)
}

// ScheduleRan notes the run a schedule has started last.
func (q Q) ScheduleRan(ctx context.Context, project record.ProjectID, pipeline, name string,
	run record.RunNumber) error {
	return q.do(ctx, nil, `UPDATE schedules SET last_run = $4 WHERE project_id = $1 AND pipeline = $2 AND name = $3`,
		project, pipeline, name, run)
}

// Schedules lists a project's schedules.
func (q Q) Schedules(ctx context.Context, project record.ProjectID) (list []Schedule, err error) {
	err = q.list(ctx, &list, `SELECT `+scheduleColumns+` WHERE s.project_id = $1 ORDER BY s.next_at, s.pipeline, s.name`,
		project)
	return list, err
}

// Head is the last commit of a branch that a pipeline has seen; "" when there is none.
func (q Q) Head(ctx context.Context, project record.ProjectID, pipeline, branch string) (commit string, err error) {
	err = q.get(ctx, &commit, `SELECT commit_id FROM heads WHERE project_id = $1 AND pipeline = $2 AND branch = $3`,
		project, pipeline, branch)
	if err == ErrNotFound {
		return "", nil
	}
	return commit, err
}

// SetHead notes which commit of a branch a pipeline has seen.
func (q Q) SetHead(ctx context.Context, project record.ProjectID, pipeline, branch, commit string) error {
	return q.do(ctx, nil, `INSERT INTO heads (project_id, pipeline, branch, commit_id) VALUES ($1, $2, $3, $4)
		ON CONFLICT (project_id, pipeline, branch) DO UPDATE SET commit_id = $4`, project, pipeline, branch, commit)
}

// AddOwnCommit notes a commit the service has made.
func (q Q) AddOwnCommit(ctx context.Context, project record.ProjectID, commit string) error {
	return q.do(ctx, nil, `INSERT INTO own_commits (project_id, commit_id) VALUES ($1, $2) ON CONFLICT DO NOTHING`,
		project, commit)
}

// IsOwnCommit reports whether the service has made a commit.
func (q Q) IsOwnCommit(ctx context.Context, project record.ProjectID, commit string) (own bool, err error) {
	err = q.get(ctx, &own, `SELECT EXISTS (SELECT 1 FROM own_commits WHERE project_id = $1 AND commit_id = $2)`, project,
		commit)
	return own, err
}
