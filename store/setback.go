package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// SetBack is by how much a run's times are set back.
type SetBack struct {
	Run  record.RunID `json:"run"`
	ByMs int64        `json:"by"`
}

// setBack are the tables that have times of runs, each with how its rows are found.
var setBack = []string{
	`UPDATE runs t SET queued_at = t.queued_at - by, started_at = t.started_at - by, finished_at = t.finished_at - by
		FROM s WHERE t.id = s.run`,
	`UPDATE attempts t SET queued_at = t.queued_at - by, claimed_at = t.claimed_at - by, prepared_at = t.prepared_at - by,
		finished_at = t.finished_at - by, not_before = t.not_before - by FROM s WHERE t.run_id = s.run`,
	`UPDATE steps t SET started_at = t.started_at - by, finished_at = t.finished_at - by
		FROM s JOIN attempts a ON a.run_id = s.run WHERE t.attempt_id = a.id`,
	`UPDATE spans t SET ended_at = t.ended_at - by FROM s JOIN runs r ON r.id = s.run
		JOIN places p ON p.project_id = r.project_id WHERE t.place_id = p.id AND t.run = r.number`,
	`UPDATE bisections t SET begun_at = t.begun_at - by, ended_at = t.ended_at - by FROM s WHERE t.run_id = s.run`,
	`UPDATE failures t SET failed_at = t.failed_at - by FROM s WHERE t.run_id = s.run`,
	`UPDATE known_failures t SET first_at = t.first_at - by FROM s JOIN runs r ON r.id = s.run
		WHERE t.project_id = r.project_id AND t.first_run = r.number`,
	`UPDATE known_failures t SET last_at = t.last_at - by FROM s JOIN runs r ON r.id = s.run
		WHERE t.project_id = r.project_id AND t.last_run = r.number`,
	`UPDATE cases t SET first_at = t.first_at - by FROM s JOIN runs r ON r.id = s.run
		WHERE t.project_id = r.project_id AND t.first_run = r.number`,
	`UPDATE cases t SET last_at = t.last_at - by FROM s JOIN runs r ON r.id = s.run
		WHERE t.project_id = r.project_id AND t.last_run = r.number`,
}

// SetRunsBack sets the times of a project's runs back, and says so of the project for ever.
func (q Q) SetRunsBack(ctx context.Context, project record.ProjectID, list []SetBack) error {
	for _, change := range setBack {
		err := q.do(ctx, nil, `WITH s AS (SELECT run, by * interval '1 ms' AS by
			FROM jsonb_to_recordset($1) AS x(run bigint, by bigint)) `+change, asJSON(list))
		if err != nil {
			return err
		}
	}
	if err := q.SumUp(ctx, project, time.Time{}, EndOfTime); err != nil {
		return err
	}
	return q.do(ctx, ErrNotFound, `UPDATE projects SET set_back = true WHERE id = $1`, project)
}

// IsSetBack tells whether the times of a project's runs were set back.
func (q Q) IsSetBack(ctx context.Context, project record.ProjectID) (is bool, err error) {
	err = q.get(ctx, &is, `SELECT set_back FROM projects WHERE id = $1`, project)
	return is, err
}

// AllRuns lists a project's runs, the oldest first, with when each was queued.
func (q Q) AllRuns(ctx context.Context, project record.ProjectID) (list []HistoryRun, err error) {
	err = q.list(ctx, &list, `SELECT id, number, queued_at FROM runs WHERE project_id = $1 ORDER BY number`, project)
	return list, err
}
