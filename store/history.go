package store

import (
	"context"
	"slices"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Place is something that has a time in the runs of a pipeline: a job, a step, a cache.
type Place struct {
	ID       record.PlaceID `db:"id"`
	Pipeline string         `db:"pipeline"`
	Job      string         `db:"job"`
	Kind     PlaceKind      `db:"kind"`
	Name     string         `db:"name"`    // of the step or cache; "" of a job
	Machine  string         `db:"machine"` // platform of the runner, and the labels that were asked for
}

// PlaceKind is what a place is.
type PlaceKind string

// The kinds.
const (
	JobPlace   PlaceKind = "job"
	StepPlace  PlaceKind = "step"
	CachePlace PlaceKind = "cache"
)

// Span is how long it took once.
type Span struct {
	PlaceID    record.PlaceID   `db:"place_id"`
	Run        record.RunNumber `db:"run"`
	Attempt    int              `db:"attempt"`
	Ended      time.Time        `db:"ended_at"`
	TookMs     int64            `db:"took_ms"`
	WaitedMs   int64            `db:"waited_ms"`
	PreparedMs int64            `db:"prepared_ms"`
	State      string           `db:"state"` // of a cache: hit or missed
}

var spanColumns = columnsOf[Span]("s")

// ended is what has a time in an attempt that is over. Steps of a job that have a name in common are one place.
const ended = `WITH e AS (
	SELECT a.id, a.project_id, r.pipeline, j.name AS job, r.number AS run, a.number AS attempt, a.state, a.finished_at,
		a.claimed_at, a.prepared_at, greatest(a.queued_at, coalesce(a.not_before, a.queued_at)) AS ready_at,
		left(concat_ws(' ', nullif(m.platform, ''), nullif(array_to_string(a.labels, ' '), '')), 500) AS machine
	FROM attempts a JOIN runs r ON r.id = a.run_id JOIN jobs j ON j.id = a.job_id LEFT JOIN runners m ON m.name = a.runner
	WHERE a.id = $1 AND a.claimed_at IS NOT NULL AND a.finished_at IS NOT NULL
), t AS (
	SELECT project_id, pipeline, job, 'job' AS kind, '' AS name, machine, run, attempt, finished_at AS ended_at,
		finished_at - claimed_at AS took, claimed_at - ready_at AS waited,
		coalesce(prepared_at, finished_at) - claimed_at AS prepared, state
	FROM e
	UNION ALL
	SELECT e.project_id, e.pipeline, e.job, 'step', s.name, e.machine, e.run, e.attempt, s.finished_at,
		s.finished_at - s.started_at, interval '0', interval '0', s.state
	FROM e JOIN steps s ON s.attempt_id = e.id WHERE s.started_at IS NOT NULL AND s.finished_at IS NOT NULL
	UNION ALL
	SELECT e.project_id, e.pipeline, e.job, 'cache', u.name, e.machine, e.run, e.attempt, e.finished_at,
		u.took_ms * interval '1 ms', interval '0', interval '0', CASE WHEN u.hit THEN 'hit' ELSE 'missed' END
	FROM e JOIN cache_uses u ON u.attempt_id = e.id
)`

// AddSpans writes what took how long in an attempt that has ended. Places that are new are added first, by a statement
// of its own: what another transaction adds at the same moment is seen by the second.
func (q Q) AddSpans(ctx context.Context, attempt record.AttemptID) error {
	err := q.do(ctx, nil, ended+` INSERT INTO places (project_id, pipeline, job, kind, name, machine)
		SELECT DISTINCT project_id, pipeline, job, kind, name, machine FROM t
		WHERE NOT EXISTS (SELECT FROM places p WHERE p.project_id = t.project_id AND p.pipeline = t.pipeline
			AND p.job = t.job AND p.kind = t.kind AND p.name = t.name AND p.machine = t.machine)
		ORDER BY kind, name ON CONFLICT DO NOTHING`, attempt)
	if err != nil {
		return err
	}
	return q.do(ctx, nil, ended+`
		INSERT INTO spans (place_id, run, attempt, ended_at, took_ms, waited_ms, prepared_ms, state)
		SELECT p.id, t.run, t.attempt, max(t.ended_at),
			sum(greatest(0, extract(epoch FROM t.took) * 1000))::bigint,
			sum(greatest(0, extract(epoch FROM t.waited) * 1000))::bigint,
			sum(greatest(0, extract(epoch FROM t.prepared) * 1000))::bigint, min(t.state)
		FROM t JOIN places p USING (project_id, pipeline, job, kind, name, machine)
		GROUP BY p.id, t.run, t.attempt`, attempt)
}

// TimedPlaces lists what has a time in a pipeline's runs.
func (q Q) TimedPlaces(ctx context.Context, project record.ProjectID, pipeline string) (list []Place, err error) {
	err = q.list(ctx, &list, `SELECT id, pipeline, job, kind, name, machine FROM places
		WHERE project_id = $1 AND pipeline = $2 ORDER BY id`, project, pipeline)
	return list, err
}

// SpansOf lists what places took in runs, by run.
func (q Q) SpansOf(ctx context.Context, places []record.PlaceID, runs []record.RunNumber) (list []Span, err error) {
	err = q.list(ctx, &list, `SELECT `+spanColumns+` FROM spans s WHERE s.place_id = ANY($1) AND s.run = ANY($2)
		ORDER BY s.run, s.attempt`, places, runs)
	return list, err
}

// HistoryRun is what the history tells of a run besides times.
type HistoryRun struct {
	ID       record.RunID     `db:"id"`
	Number   record.RunNumber `db:"number"`
	Branch   string           `db:"branch"`
	Commit   string           `db:"commit_id"`
	Subject  string           `db:"subject"`
	Author   string           `db:"author"`
	State    string           `db:"state"`
	Queued   time.Time        `db:"queued_at"`
	Finished time.Time        `db:"finished_at"`
}

// HistoryFilter says which runs a history is of.
type HistoryFilter struct {
	Pipeline string
	Branch   string           // "": all
	UpTo     record.RunNumber // 0: the last
	Limit    int
}

// HistoryRuns lists the last runs of a pipeline that are over and had a job at work, the oldest first.
func (q Q) HistoryRuns(ctx context.Context, project record.ProjectID, f HistoryFilter) (list []HistoryRun, err error) {
	err = q.list(ctx, &list, `SELECT r.id, r.number, r.branch, r.commit_id, r.subject, r.author, r.state,
			r.queued_at, r.finished_at FROM runs r
		WHERE r.project_id = $1 AND r.pipeline = $2 AND ($3 = '' OR r.branch = $3) AND ($4 = 0 OR r.number <= $4)
			AND r.bisection = 0 AND r.finished_at IS NOT NULL
			AND EXISTS (SELECT FROM attempts a WHERE a.run_id = r.id AND a.claimed_at IS NOT NULL)
		ORDER BY r.number DESC LIMIT $5`, project, f.Pipeline, f.Branch, f.UpTo, f.Limit)
	slices.Reverse(list)
	return list, err
}

// ToolsFound lists which versions of the tools that were asked for the runners of runs had, by run and tool.
func (q Q) ToolsFound(ctx context.Context, runs []record.RunID) (map[record.RunID]map[string]string, error) {
	var rows []struct {
		Run   record.RunID            `db:"run_id"`
		Found JSON[map[string]string] `db:"tools_found"`
		Tools JSON[map[string]string] `db:"tools"`
	}
	err := q.list(ctx, &rows, `SELECT a.run_id, a.tools, a.tools_found FROM attempts a WHERE a.run_id = ANY($1)
		AND a.claimed_at IS NOT NULL ORDER BY a.id`, runs)
	all := map[record.RunID]map[string]string{}
	for _, r := range rows {
		for name := range r.Tools.V {
			v, found := r.Found.V[name]
			if !found {
				continue
			}
			if all[r.Run] == nil {
				all[r.Run] = map[string]string{}
			}
			all[r.Run][name] = v
		}
	}
	return all, err
}

// ReleasesOfRuns lists the names of the releases that runs have made.
func (q Q) ReleasesOfRuns(ctx context.Context, runs []record.RunID) (map[record.RunID]string, error) {
	var rows []struct {
		Run  record.RunID `db:"run_id"`
		Name string       `db:"names"`
	}
	err := q.list(ctx, &rows, `SELECT run_id, string_agg(name, ', ' ORDER BY name) AS names FROM releases
		WHERE run_id = ANY($1) GROUP BY run_id`, runs)
	names := map[record.RunID]string{}
	for _, r := range rows {
		names[r.Run] = r.Name
	}
	return names, err
}

// HistoryPipelines lists the pipelines of a project whose runs have a history.
func (q Q) HistoryPipelines(ctx context.Context, project record.ProjectID) (names []string, err error) {
	err = q.list(ctx, &names, `SELECT DISTINCT pipeline FROM places WHERE project_id = $1 ORDER BY pipeline`, project)
	return names, err
}

// LastPipeline is the pipeline of the last run of a project that is over; "" when there is none.
func (q Q) LastPipeline(ctx context.Context, project record.ProjectID) (name string, err error) {
	err = q.get(ctx, &name, `SELECT coalesce((SELECT r.pipeline FROM runs r WHERE r.project_id = $1
		AND r.finished_at IS NOT NULL AND EXISTS (SELECT FROM places p WHERE p.project_id = $1 AND p.pipeline = r.pipeline)
		ORDER BY r.number DESC LIMIT 1), '')`, project)
	return name, err
}
