package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// Tick is a run in a strip of them.
type Tick struct {
	Pipeline string           `db:"pipeline"`
	Number   record.RunNumber `db:"number"`
	State    state.State      `db:"state"`
	Branch   string           `db:"branch"`
	Tag      string           `db:"tag"`
	Subject  string           `db:"subject"`
	Queued   time.Time        `db:"queued_at"`
	Finished *time.Time       `db:"finished_at"`
	FailedAt string           `db:"failed_at"`
	Reason   string           `db:"reason"`
}

// Ticks lists the last runs of each pipeline of a project, the latest first. Pipelines are found by steps through the
// index, not by reading all runs.
func (q Q) Ticks(ctx context.Context, project record.ProjectID, limit int) (list []Tick, err error) {
	err = q.list(ctx, &list, `WITH RECURSIVE names AS (
			(SELECT pipeline FROM runs WHERE project_id = $1 AND bisection = 0 ORDER BY pipeline LIMIT 1)
			UNION ALL
			SELECT (SELECT r.pipeline FROM runs r WHERE r.project_id = $1 AND r.pipeline > n.pipeline
				AND r.bisection = 0 ORDER BY r.pipeline LIMIT 1) FROM names n WHERE n.pipeline IS NOT NULL)
		SELECT n.pipeline, r.number, r.state, r.branch, r.tag, r.subject, r.queued_at, r.finished_at, r.failed_at, r.reason
		FROM (SELECT pipeline FROM names WHERE pipeline IS NOT NULL) AS n
			CROSS JOIN LATERAL (SELECT o.number, o.state, o.branch, o.tag, o.subject, o.queued_at, o.finished_at,
				o.failed_at, o.reason FROM runs o WHERE o.project_id = $1 AND o.pipeline = n.pipeline AND o.bisection = 0
				ORDER BY o.number DESC LIMIT $2) AS r ORDER BY r.number DESC`, project, limit)
	return list, err
}

// Standing is how a project stands, in numbers.
type Standing struct {
	Queued   int    `db:"queued"`
	AtWork   int    `db:"at_work"`
	Waiting  int    `db:"waiting"`
	Failing  int    `db:"failing"`
	Flaky    int    `db:"flaky"`
	SetBack  bool   `db:"set_back"`
	UnderWay int    `db:"under_way"` // publications of the latest release that are not out yet
	Release  string `db:"release"`   // the latest one's name; "" for none
	App      string `db:"app"`
	Run      int64  `db:"run"`
	Made     int64  `db:"made"` // seconds since 1970
}

// StandingOf counts what is to be known of a project.
func (q Q) StandingOf(ctx context.Context, project record.ProjectID) (s Standing, err error) {
	err = q.get(ctx, &s, `SELECT
		(SELECT count(*) FROM runs r WHERE r.project_id = p.id AND r.state = 'queued') AS queued,
		(SELECT count(*) FROM runs r WHERE r.project_id = p.id AND r.state = 'running') AS at_work,
		(SELECT count(*) FROM gates g WHERE g.project_id = p.id AND g.outcome = '') AS waiting,
		(SELECT count(*) FROM cases c WHERE c.project_id = p.id AND c.failing_since IS NOT NULL) AS failing,
		(SELECT count(*) FROM cases c WHERE c.project_id = p.id AND c.flaky > 0) AS flaky,
		p.set_back, coalesce(l.name, '') AS release, coalesce(l.app, '') AS app, coalesce(l.number, 0) AS run,
		coalesce(extract(epoch FROM l.made_at)::bigint, 0) AS made,
		(SELECT count(*) FROM publications u WHERE u.release_id = l.id
			AND u.state NOT IN ('out', 'refused', 'withdrawn')) AS under_way
		FROM projects p LEFT JOIN LATERAL (SELECT l.id, l.name, l.app, r.number, l.made_at FROM releases l
			JOIN runs r ON r.id = l.run_id WHERE l.project_id = p.id AND l.withdrawn_at IS NULL
			ORDER BY l.id DESC LIMIT 1) AS l ON true
		WHERE p.id = $1`, project)
	return s, err
}
