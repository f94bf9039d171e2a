package store

import (
	"context"
	"maps"
	"math"
	"slices"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/schedule"
)

// LockQueue holds the queue for the transaction, so that decisions on who gets what come one after the other: limits
// and groups hold across all servers on the same records.
func (q Q) LockQueue(ctx context.Context) error { return q.hold(ctx, queueLock) }

// Queue reads what is queued and what a decision on it depends on. labels, when given, leaves out what no runner with
// only these labels could do. perLine, when not 0, bounds how many jobs of one pipeline with the same needs are read:
// those of runs that have begun, then of older ones, come first, and no others would be handed out before them.
func (q Q) Queue(ctx context.Context, labels []string, perLine int, now time.Time) (*schedule.Queue, error) {
	var rows []struct {
		ID       record.AttemptID        `db:"id"`
		Job      record.JobID            `db:"job_id"`
		Place    int                     `db:"place"`
		Project  record.ProjectID        `db:"project_id"`
		Run      record.RunID            `db:"run_id"`
		Number   record.RunNumber        `db:"number"`
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
	if perLine == 0 {
		perLine = math.MaxInt32
	}
	err := q.list(ctx, &rows,
		`SELECT l.id, l.job_id, l.project_id, l.run_id, l.number, l.pipeline, l.priority, l.queued_at, l.not_before, l.labels,
			l.tools, l.run_group, l.at_once, l.place, j.name
		FROM (SELECT a.id, a.job_id, a.project_id, a.run_id, r.number, r.pipeline, r.priority, a.queued_at, a.not_before,
		a.labels, a.tools,
				r.run_group, r.at_once,
				row_number() OVER (PARTITION BY a.project_id, r.pipeline, a.labels, a.tools, a.not_before > $2
				ORDER BY r.bisection <> 0 AND NOT r.begun, r.begun DESC, a.run_id, a.id) AS place
			FROM attempts a JOIN runs r ON r.id = a.run_id
			WHERE a.state = 'queued' AND (cardinality($1::text[]) = 0 OR a.labels <@ $1::text[])) AS l JOIN jobs j
			ON j.id = l.job_id
		WHERE l.place <= $3`, labels, now, perLine)
	if err != nil {
		return nil, err
	}
	out := &schedule.Queue{Now: now, Projects: map[record.ProjectID]schedule.Project{}}
	inLine := false // whether any job depends on other runs
	for _, r := range rows {
		inLine = inLine || r.Group != "" || r.AtOnce > 0
		out.Projects[r.Project] = schedule.Project{}
		j := schedule.Job{ID: r.ID, Project: r.Project, Run: r.Run, Number: r.Number, Pipeline: r.Pipeline, Name: r.Name,
			Priority: r.Priority,
			Queued:   r.Queued, Labels: r.Labels, Tools: r.Tools.V, Group: r.Group, AtOnce: r.AtOnce}
		if r.After != nil {
			j.After = *r.After
		}
		out.Jobs = append(out.Jobs, j)
	}
	if len(out.Jobs) == 0 {
		return out, nil
	}
	if inLine {
		if err := q.openRuns(ctx, out); err != nil {
			return nil, err
		}
	}
	return out, q.projectLoads(ctx, out)
}

// openRuns reads the runs that are not over.
func (q Q) openRuns(ctx context.Context, out *schedule.Queue) error {
	var runs []struct {
		ID       record.RunID     `db:"id"`
		Number   record.RunNumber `db:"number"`
		Project  record.ProjectID `db:"project_id"`
		Pipeline string           `db:"pipeline"`
		Group    string           `db:"run_group"`
		Begun    bool             `db:"begun"`
		Waits    bool             `db:"waits"`
		Last     bool             `db:"last"`
	}
	err := q.list(ctx, &runs,
		`SELECT id, number, project_id, pipeline, run_group, begun, state = 'waiting' AS waits, bisection <> 0 AS last
			FROM runs
			WHERE state IN ('queued', 'running', 'waiting')`)
	for _, r := range runs {
		out.Runs = append(out.Runs, schedule.Run{ID: r.ID, Number: r.Number, Project: r.Project, Pipeline: r.Pipeline,
			Group: r.Group, Begun: r.Begun, Waits: r.Waits, Last: r.Last})
	}
	return err
}

func (q Q) projectLoads(ctx context.Context, out *schedule.Queue) error {
	var loads []struct {
		ID      record.ProjectID `db:"id"`
		Held    string           `db:"held"`
		AtOnce  int              `db:"at_once"`
		Working int              `db:"working"`
	}
	err := q.list(ctx, &loads,
		`SELECT p.id, p.held, p.at_once, (SELECT count(*) FROM attempts a WHERE a.project_id = p.id
			AND a.state = 'running' AND a.lease_until IS NOT NULL) AS working
		FROM projects p WHERE p.id = ANY($1)`, slices.Collect(maps.Keys(out.Projects)))
	for _, l := range loads {
		out.Projects[l.ID] = schedule.Project{Held: l.Held, AtOnce: l.AtOnce, Working: l.Working}
	}
	return err
}

// HandOut gives queued attempts to runners, by attempt, and returns those that were still queued. With them their jobs
// are at work, and their runs, whose limit begins to count with the first. An attempt whose job was cancelled in this
// moment is not returned.
func (q Q) HandOut(ctx context.Context, to map[record.AttemptID]Runner, lease time.Duration) (list []Attempt,
	err error) {
	type row struct {
		ID     record.AttemptID  `json:"id"`
		Runner string            `json:"runner"`
		Token  record.TokenID    `json:"token"`
		Tools  map[string]string `json:"tools"`
		Clock  int64             `json:"clock"`
	}
	var rows []row
	ids := slices.Sorted(maps.Keys(to))
	for _, id := range ids {
		r := to[id]
		rows = append(rows, row{id, r.Name, r.Token, orNone(r.Tools.V), r.ClockMs})
	}
	// Whoever stops a run holds it and then its attempts. Runs that are to begin are held first here too, or the two could
	// wait for each other. The count makes the database hold them before it changes anything.
	err = q.list(ctx, &list,
		`WITH held AS (SELECT id FROM runs WHERE NOT begun AND id IN (SELECT run_id FROM attempts WHERE id = ANY($3))
			ORDER BY id FOR NO KEY UPDATE),
		given AS (
			UPDATE attempts SET state = 'running', runner = t.runner, runner_token = t.token, claimed_at = now(),
			lease_until = now() + $2, tools_found = t.tools, clock_ms = t.clock
			FROM jsonb_to_recordset($1) AS t(id bigint, runner text, token bigint, tools jsonb, clock bigint)
			WHERE attempts.id = t.id AND state = 'queued'
				AND (t.token = 0 OR EXISTS (SELECT FROM tokens k WHERE k.id = t.token AND (k.expires_at IS NULL
				OR k.expires_at > now()))) AND (SELECT count(*) FROM held) >= 0 RETURNING `+attemptColumns+`),
		begun AS (UPDATE jobs SET state = 'running', reason = '' FROM given WHERE jobs.id = given.job_id
		AND jobs.state = 'queued' RETURNING jobs.id),
		open AS (UPDATE runs SET state = 'running', begun = true, started_at = coalesce(started_at, now()),
			deadline = CASE WHEN limit_ms > 0 THEN now() + limit_ms * interval '1 millisecond' END
			WHERE id IN (SELECT run_id FROM given) AND NOT begun AND state IN ('queued', 'running')),
		told AS (INSERT INTO outbox (project_id, run, body)
			SELECT r.project_id, r.number, jsonb_build_object('project', p.name, 'run', r.number, 'state', 'running')
			FROM runs r JOIN projects p ON p.id = r.project_id WHERE r.id IN (SELECT run_id FROM given))
		SELECT `+columnsOf[Attempt]("given")+` FROM given WHERE job_id IN (SELECT id FROM begun)`, asJSON(rows), lease, ids)
	return list, err
}

// TakeBack puts an attempt back into the queue whose runner went away before it could be told of it.
func (q Q) TakeBack(ctx context.Context, a Attempt) error {
	return q.do(ctx, nil,
		`WITH back AS (UPDATE attempts SET state = 'queued', runner = '', claimed_at = NULL, lease_until = NULL
			WHERE id = $1 AND state = 'running' RETURNING job_id)
		UPDATE jobs SET state = 'queued' FROM back WHERE jobs.id = back.job_id AND jobs.state = 'running'`, a.ID)
}

// OverdueRuns lists runs at work whose limit is over.
func (q Q) OverdueRuns(ctx context.Context) (ids []record.RunID, err error) {
	err = q.list(ctx, &ids, `SELECT id FROM runs WHERE state = 'running' AND deadline < now() ORDER BY id LIMIT 100`)
	return ids, err
}

// LimitSpent notes that a run has been ended for its limit.
func (q Q) LimitSpent(ctx context.Context, run record.RunID) error {
	return q.do(ctx, nil, `UPDATE runs SET deadline = NULL WHERE id = $1`, run)
}

// OlderOpenRuns lists the ids of open runs of a branch's pushes with numbers below one, and whether they have begun.
func (q Q) OlderOpenRuns(ctx context.Context, project record.ProjectID, pipeline, branch string,
	number record.RunNumber) (list []Run,
	err error) {
	err = q.list(ctx, &list,
		`SELECT `+runColumns+` WHERE r.project_id = $1 AND r.pipeline = $2 AND r.branch = $3 AND r.trigger = 'push'
		AND r.number < $4 AND r.state IN ('queued', 'running', 'waiting') ORDER BY r.id`, project, pipeline, branch, number)
	return list, err
}

// HoldProject keeps a project's jobs from being handed out; an empty reason lets them go again.
func (q Q) HoldProject(ctx context.Context, id record.ProjectID, reason, by string) error {
	return q.do(ctx, ErrNotFound, `UPDATE projects SET held = $2, held_by = $3 WHERE id = $1`, id, reason, by)
}

// LimitProject sets how many jobs of a project may be at work at once; 0 for any number.
func (q Q) LimitProject(ctx context.Context, id record.ProjectID, atOnce int) error {
	return q.do(ctx, ErrNotFound, `UPDATE projects SET at_once = $2 WHERE id = $1`, id, atOnce)
}

// Working counts the jobs at work.
func (q Q) Working(ctx context.Context) (n int, err error) {
	err = q.get(ctx, &n, `SELECT count(*) FROM attempts WHERE state = 'running'
		AND lease_until IS NOT NULL`)
	return n, err
}

// BranchesOfOpenRuns gives the branch of each run that is not over, by its id.
func (q Q) BranchesOfOpenRuns(ctx context.Context) (map[record.RunID]string, error) {
	return textsByID[record.RunID](ctx, q, `SELECT id, branch AS text FROM runs
		WHERE state IN ('queued', 'running', 'waiting')`)
}

// ProjectNames gives the name of each project, by its id.
func (q Q) ProjectNames(ctx context.Context) (map[record.ProjectID]string, error) {
	return textsByID[record.ProjectID](ctx, q, `SELECT id, name AS text FROM projects`)
}

func textsByID[ID ~int64](ctx context.Context, q Q, query string, args ...any) (map[ID]string, error) {
	var rows []struct {
		ID   ID     `db:"id"`
		Text string `db:"text"`
	}
	err := q.list(ctx, &rows, query, args...)
	texts := make(map[ID]string, len(rows))
	for _, r := range rows {
		texts[r.ID] = r.Text
	}
	return texts, err
}
