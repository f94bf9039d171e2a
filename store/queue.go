package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/schedule"
)

// queueLock serialises decisions on who gets what: limits and groups hold across all servers on the same records.
const queueLock = 0x7069_7374

// LockQueue holds the queue for the transaction.
func (q Q) LockQueue(ctx context.Context) error {
	return q.do(ctx, nil, `SELECT pg_advisory_xact_lock($1)`, int64(queueLock))
}

// perLine bounds how many queued jobs of one pipeline with the same needs are looked at for one decision: those of
// older runs come first.
const perLine = 200

// Queue reads what is queued and what a decision on it depends on. labels, when given, leaves out what no runner with
// only these labels could do.
func (q Q) Queue(ctx context.Context, labels []string, now time.Time) (*schedule.Queue, error) {
	var rows []struct {
		ID       int64                   `db:"id"`
		Project  int64                   `db:"project_id"`
		Run      int64                   `db:"run_id"`
		Number   int64                   `db:"number"`
		Pipeline string                  `db:"pipeline"`
		Name     string                  `db:"name"`
		Priority int                     `db:"priority"`
		Queued   time.Time               `db:"queued_at"`
		After    *time.Time              `db:"not_before"`
		Labels   Texts                   `db:"labels"`
		Tools    JSON[map[string]string] `db:"tools"`
		Group    string                  `db:"run_group"`
		AtOnce   int                     `db:"at_once"`
	}
	if labels == nil {
		labels = []string{}
	}
	err := q.list(ctx, &rows, `SELECT id, project_id, run_id, number, pipeline, name, priority, queued_at, not_before, labels, tools, run_group, at_once
		FROM (SELECT a.id, a.project_id, a.run_id, r.number, r.pipeline, j.name, r.priority, a.queued_at, a.not_before, a.labels, a.tools,
				r.run_group, r.at_once,
				row_number() OVER (PARTITION BY a.project_id, r.pipeline, a.labels, a.tools, a.not_before > $2 ORDER BY a.run_id, a.id) AS place
			FROM attempts a JOIN runs r ON r.id = a.run_id JOIN jobs j ON j.id = a.job_id
			WHERE a.state = 'queued' AND (cardinality($1::text[]) = 0 OR a.labels <@ $1::text[])) AS lines
		WHERE place <= $3`, labels, now, perLine)
	if err != nil {
		return nil, err
	}
	out := &schedule.Queue{Now: now, Projects: map[int64]schedule.Project{}}
	for _, r := range rows {
		j := schedule.Job{ID: r.ID, Project: r.Project, Run: r.Run, Number: r.Number, Pipeline: r.Pipeline, Name: r.Name, Priority: r.Priority,
			Queued: r.Queued, Labels: r.Labels, Tools: r.Tools.V, Group: r.Group, AtOnce: r.AtOnce}
		if r.After != nil {
			j.After = *r.After
		}
		out.Jobs = append(out.Jobs, j)
	}
	if len(out.Jobs) == 0 {
		return out, nil
	}
	if err := q.openRuns(ctx, out); err != nil {
		return nil, err
	}
	return out, q.projectLoads(ctx, out)
}

// openRuns reads the runs that are not over. One has begun when a job of it was handed out since it was (re)opened.
func (q Q) openRuns(ctx context.Context, out *schedule.Queue) error {
	var runs []struct {
		ID       int64  `db:"id"`
		Number   int64  `db:"number"`
		Project  int64  `db:"project_id"`
		Pipeline string `db:"pipeline"`
		Group    string `db:"run_group"`
		Begun    bool   `db:"begun"`
	}
	err := q.list(ctx, &runs, `SELECT r.id, r.number, r.project_id, r.pipeline, r.run_group, EXISTS (SELECT 1 FROM attempts a WHERE a.run_id = r.id
			AND a.claimed_at IS NOT NULL AND (r.reopened_at IS NULL OR a.claimed_at >= r.reopened_at)) AS begun
		FROM runs r WHERE r.state IN ('queued', 'running', 'waiting')`)
	for _, r := range runs {
		out.Runs = append(out.Runs, schedule.Run{ID: r.ID, Number: r.Number, Project: r.Project, Pipeline: r.Pipeline, Group: r.Group, Begun: r.Begun})
	}
	return err
}

func (q Q) projectLoads(ctx context.Context, out *schedule.Queue) error {
	var loads []struct {
		ID      int64  `db:"id"`
		Held    string `db:"held"`
		AtOnce  int    `db:"at_once"`
		Working int    `db:"working"`
	}
	err := q.list(ctx, &loads, `SELECT p.id, p.held, p.at_once, (SELECT count(*) FROM attempts a WHERE a.project_id = p.id AND a.state = 'running') AS working
		FROM projects p WHERE p.id IN (SELECT project_id FROM attempts WHERE state = 'queued')`)
	for _, l := range loads {
		out.Projects[l.ID] = schedule.Project{Held: l.Held, AtOnce: l.AtOnce, Working: l.Working}
	}
	return err
}

// HandOut gives queued attempts to runners, by attempt, and returns those that were still queued.
func (q Q) HandOut(ctx context.Context, to map[int64]Runner, lease time.Duration) (list []Attempt, err error) {
	type row struct {
		ID     int64             `json:"id"`
		Runner string            `json:"runner"`
		Tools  map[string]string `json:"tools"`
	}
	var rows []row
	for id, r := range to {
		rows = append(rows, row{id, r.Name, orNone(r.Tools.V)})
	}
	err = q.list(ctx, &list, `UPDATE attempts SET state = 'running', runner = r.runner, claimed_at = now(), lease_until = now() + $2, tools_found = r.tools
		FROM jsonb_to_recordset($1) AS r(id bigint, runner text, tools jsonb)
		WHERE attempts.id = r.id AND state = 'queued' RETURNING attempts.*`, asJSON(rows), lease)
	return list, err
}

// TakeBack puts an attempt back into the queue whose runner went away before it could be told of it.
func (q Q) TakeBack(ctx context.Context, id int64) error {
	return q.do(ctx, nil, `UPDATE attempts SET state = 'queued', runner = '', claimed_at = NULL, lease_until = NULL WHERE id = $1 AND state = 'running'`, id)
}

// RunBegins notes that a job of a run is at work; with the first, the run's limit begins to count.
func (q Q) RunBegins(ctx context.Context, run int64) error {
	return q.do(ctx, nil, `UPDATE runs SET state = 'running', started_at = coalesce(started_at, now()),
		deadline = coalesce(deadline, CASE WHEN limit_ms > 0 THEN now() + limit_ms * interval '1 millisecond' END)
		WHERE id = $1 AND state IN ('queued', 'running')`, run)
}

// OverdueRuns lists runs at work whose limit is over.
func (q Q) OverdueRuns(ctx context.Context) (ids []int64, err error) {
	err = q.list(ctx, &ids, `SELECT id FROM runs WHERE state = 'running' AND deadline < now() ORDER BY id LIMIT 100`)
	return ids, err
}

// LimitSpent notes that a run has been ended for its limit.
func (q Q) LimitSpent(ctx context.Context, run int64) error {
	return q.do(ctx, nil, `UPDATE runs SET deadline = NULL WHERE id = $1`, run)
}

// OlderOpenRuns lists the ids of open runs of a branch's pushes with numbers below one, and whether they have begun.
func (q Q) OlderOpenRuns(ctx context.Context, project int64, pipeline, branch string, number int64) (list []Run, err error) {
	err = q.list(ctx, &list, `SELECT `+runColumns+` WHERE r.project_id = $1 AND r.pipeline = $2 AND r.branch = $3 AND r.trigger = 'push'
		AND r.number < $4 AND r.state IN ('queued', 'running') ORDER BY r.id`, project, pipeline, branch, number)
	return list, err
}

// HoldProject keeps a project's jobs from being handed out; an empty reason lets them go again.
func (q Q) HoldProject(ctx context.Context, id int64, reason, by string) error {
	return q.do(ctx, ErrNotFound, `UPDATE projects SET held = $2, held_by = $3 WHERE id = $1`, id, reason, by)
}

// LimitProject sets how many jobs of a project may be at work at once; 0 for any number.
func (q Q) LimitProject(ctx context.Context, id int64, atOnce int) error {
	return q.do(ctx, ErrNotFound, `UPDATE projects SET at_once = $2 WHERE id = $1`, id, atOnce)
}

// Working counts the jobs at work.
func (q Q) Working(ctx context.Context) (n int, err error) {
	err = q.get(ctx, &n, `SELECT count(*) FROM attempts WHERE state = 'running'`)
	return n, err
}

// BranchesOfOpenRuns gives the branch of each run that is not over, by its id.
func (q Q) BranchesOfOpenRuns(ctx context.Context) (map[int64]string, error) {
	return q.textsByID(ctx, `SELECT id, branch AS text FROM runs WHERE state IN ('queued', 'running', 'waiting')`)
}

// ProjectNames gives the name of each project, by its id.
func (q Q) ProjectNames(ctx context.Context) (map[int64]string, error) {
	return q.textsByID(ctx, `SELECT id, name AS text FROM projects`)
}

func (q Q) textsByID(ctx context.Context, query string, args ...any) (map[int64]string, error) {
	var rows []struct {
		ID   int64  `db:"id"`
		Text string `db:"text"`
	}
	err := q.list(ctx, &rows, query, args...)
	texts := make(map[int64]string, len(rows))
	for _, r := range rows {
		texts[r.ID] = r.Text
	}
	return texts, err
}
