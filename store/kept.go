package store

import (
	"context"
	"errors"
	"math"
	"time"

	"gentlepiston.example/piston/core/keep"
	"gentlepiston.example/piston/core/record"
)

// Rules are a project's own rules of what is kept, or with project 0 those for all; zeros where there are none.
func (q Q) Rules(ctx context.Context, project record.ProjectID) (keep.Rules, error) {
	var r JSON[keep.Rules]
	err := q.get(ctx, &r, `SELECT rules FROM keeping WHERE project_id = $1`, project)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return r.V, err
}

// SetRules writes a project's own rules, or with project 0 those for all.
func (q Q) SetRules(ctx context.Context, project record.ProjectID, r keep.Rules, by string) error {
	return q.do(ctx, nil, `INSERT INTO keeping (project_id, rules, changed_by) VALUES ($1, $2, $3)
		ON CONFLICT (project_id) DO UPDATE SET rules = $2, changed_by = $3, changed_at = now()`, project, asJSON(r), by)
}

// Kept is one thing that is kept.
type Kept struct {
	Kind    string           `db:"kind"`
	ID      int64            `db:"id"`
	Project string           `db:"project"`
	Run     record.RunNumber `db:"run"` // number; 0 for a cache
	What    string           `db:"what"`
	Size    int64            `db:"size"`
	Since   time.Time        `db:"since"` // since when it counts: the end of its run, or when it was last used
	Blob    string           `db:"blob"`
	Goes    bool             `db:"goes"` // with the next sweep
	Key     int64            `db:"key"`  // what a page of them is ordered by, before kind, id and what
}

// KeptSum is how much of a kind is kept, and how much of that goes.
type KeptSum struct {
	Kind       string `db:"kind"`
	Count      int64  `db:"n"`
	Bytes      int64  `db:"bytes"`
	GoingCount int64  `db:"going"`
	GoingBytes int64  `db:"going_bytes"`
}

// Cut says what is given up: what counts since before these times. A zero time gives up nothing.
type Cut struct {
	Log, Artifact, Cache, Hand time.Time
	ArtifactRuns               int
	CacheBytes                 int64 // of a project's caches together; 0 any
}

// kept is everything that is kept of a project, or with 0 of all, and whether it goes by a cut. Its parameters are
// those of Cut.args.
const kept = `WITH kept AS (
	SELECT 'artifact' AS kind, f.id, p.name AS project, r.number AS run, f.path AS what, f.size, coalesce(r.finished_at,
	now()) AS since, f.blob,
		coalesce(r.finished_at < $2, false) AND r.trigger <> 'tag' AND NOT EXISTS (
			SELECT 1 FROM versions v WHERE v.run_id = r.id AND v.state = 'kept' AND v.landed <> '') AND NOT EXISTS (
			SELECT 1 FROM release_packages k WHERE k.artifact_id = f.id) AND
			(SELECT count(*) FROM runs l WHERE l.project_id = r.project_id AND l.pipeline = r.pipeline
			AND l.bisection = 0
			AND l.number > r.number) >= $6::bigint AS goes
		FROM artifacts f JOIN attempts a ON a.id = f.attempt_id JOIN runs r ON r.id = a.run_id JOIN projects p
		ON p.id = r.project_id
		WHERE $1::bigint IN (0, r.project_id)
	UNION ALL SELECT 'cache', c.id, p.name, 0, c.name, c.bytes, c.last_used_at, c.blob, c.last_used_at < $3
	OR $7::bigint > 0 AND c.upto > $7::bigint
		FROM (SELECT id, project_id, name, bytes, last_used_at, blob,
			sum(bytes) OVER (PARTITION BY project_id ORDER BY last_used_at DESC, id DESC) AS upto
			FROM caches JOIN cache_sizes USING (id)
			WHERE $1::bigint IN (0, project_id)) c
		JOIN projects p ON p.id = c.project_id
	UNION ALL SELECT 'handover', a.id, p.name, r.number, h.name, h.size, coalesce(r.finished_at, now()), h.blob,
	coalesce(r.finished_at < $4, false)
		FROM handovers h JOIN attempts a ON a.id = h.attempt_id JOIN runs r ON r.id = a.run_id JOIN projects p
		ON p.id = r.project_id
		WHERE $1::bigint IN (0, r.project_id)
	UNION ALL SELECT 'log', a.id, p.name, r.number, j.name, a.log_size, coalesce(r.finished_at, now()), a.log_blob,
	coalesce(r.finished_at < $5, false)
		FROM attempts a JOIN runs r ON r.id = a.run_id JOIN jobs j ON j.id = a.job_id JOIN projects p ON p.id = r.project_id
		WHERE $1::bigint IN (0, r.project_id) AND a.log_blob <> '') `

func (c Cut) args(project record.ProjectID) []any {
	return []any{project, orNever(c.Artifact), orNever(c.Cache), orNever(c.Hand), orNever(c.Log), c.ArtifactRuns,
		c.CacheBytes}
}

// KeptSums counts what is kept of a project, by kind; of all with project 0.
func (q Q) KeptSums(ctx context.Context, project record.ProjectID, c Cut) (list []KeptSum, err error) {
	err = q.list(ctx, &list,
		kept+`SELECT kind, count(*) AS n, sum(size)::bigint AS bytes, count(*) FILTER (WHERE goes) AS going,
		coalesce(sum(size) FILTER (WHERE goes), 0)::bigint AS going_bytes FROM kept GROUP BY kind ORDER BY kind`,
		c.args(project)...)
	return list, err
}

// Outdated lists what goes of a project by a cut, that of the longest age first.
func (q Q) Outdated(ctx context.Context, project record.ProjectID, c Cut, limit int) (list []Kept, err error) {
	err = q.list(ctx, &list,
		kept+`SELECT kind, id, project, run, what, size, since, blob, goes FROM kept WHERE goes ORDER BY since
			LIMIT $8::bigint`,
		append(c.args(project), limit)...)
	return list, err
}

// KeptPage is a part of what is kept.
type KeptPage struct {
	Kind    string // only of this; "" any
	Goes    *bool  // only what goes with the next sweep, or what does not
	Largest bool   // those first, else those of the longest age
	After   *Kept  // only what comes after it
	Limit   int
}

// Kept lists what is kept of a project.
func (q Q) Kept(ctx context.Context, project record.ProjectID, c Cut, page KeptPage) (list []Kept, err error) {
	after := page.After
	if after == nil {
		after = &Kept{Key: math.MinInt64}
	}
	err = q.list(ctx, &list, kept+`, keyed AS (SELECT kind, id, project, run, what, size, since, blob, goes,
			CASE WHEN $8::boolean THEN -size ELSE (extract(epoch FROM since) * 1000000)::bigint END AS key FROM kept)
		SELECT kind, id, project, run, what, size, since, blob, goes, key FROM keyed
		WHERE $9 IN ('', kind) AND ($10::boolean IS NULL OR goes = $10) AND (key, kind, id, what) > ($11::bigint, $12,
		$13::bigint, $14)
		ORDER BY key, kind, id, what LIMIT $15::bigint`,
		append(c.args(project), page.Largest, page.Kind, page.Goes, after.Key, after.Kind, after.ID, after.What,
			page.Limit)...)
	return list, err
}

// orNever is a time before which nothing is.
func orNever(t time.Time) time.Time {
	if t.IsZero() {
		return time.Unix(0, 0)
	}
	return t
}

// LeastUsedCaches lists caches of all projects, those longest not used first.
func (q Q) LeastUsedCaches(ctx context.Context, limit int) (list []Kept, err error) {
	err = q.list(ctx, &list,
		`SELECT 'cache' AS kind, c.id, p.name AS project, 0 AS run, c.name AS what, s.bytes AS size,
			c.last_used_at AS since, c.blob
		FROM caches c JOIN cache_sizes s ON s.id = c.id JOIN projects p ON p.id = c.project_id
		ORDER BY c.last_used_at LIMIT $1`, limit)
	return list, err
}

// GiveUp removes the record of something that is kept; ErrNotFound when it is gone already, or was used meanwhile.
func (q Q) GiveUp(ctx context.Context, k Kept) error {
	switch k.Kind {
	case "artifact":
		return q.do(ctx, ErrNotFound, `DELETE FROM artifacts f WHERE id = $1
			AND NOT EXISTS (SELECT 1 FROM release_packages k WHERE k.artifact_id = f.id)`, k.ID)
	case "cache":
		return q.do(ctx, ErrNotFound, `DELETE FROM caches WHERE id = $1 AND last_used_at = $2`, k.ID, k.Since)
	case "handover":
		return q.do(ctx, ErrNotFound, `DELETE FROM handovers WHERE attempt_id = $1 AND name = $2`, k.ID, k.What)
	case "log":
		return q.do(ctx, ErrNotFound, `WITH shown AS (DELETE FROM shell_parts t USING shells h WHERE h.id = t.shell_id
				AND h.attempt_id = $1)
			UPDATE attempts SET log_blob = '', log_size = 0 WHERE id = $1 AND log_blob = $2`, k.ID, k.Blob)
	}
	return ErrNotFound
}

// Referenced tells which of some blobs a record speaks of.
func (q Q) Referenced(ctx context.Context, blobs []string) (map[string]bool, error) {
	var list []string
	err := q.list(ctx, &list,
		`SELECT blob FROM artifacts WHERE blob = ANY($1) UNION ALL SELECT blob FROM caches WHERE blob = ANY($1)
		UNION ALL SELECT blob FROM cache_packs WHERE blob = ANY($1)
		UNION ALL SELECT blob FROM handovers WHERE blob = ANY($1) UNION ALL SELECT log_blob FROM attempts WHERE log_blob <> ''
		AND log_blob = ANY($1)`, blobs)
	m := map[string]bool{}
	for _, name := range list {
		m[name] = true
	}
	return m, err
}

// BlobsOf lists the blobs of a project.
func (q Q) BlobsOf(ctx context.Context, project record.ProjectID) (list []string, err error) {
	err = q.list(ctx, &list,
		`SELECT f.blob FROM artifacts f JOIN attempts a ON a.id = f.attempt_id WHERE a.project_id = $1::bigint
		UNION ALL SELECT blob FROM caches WHERE project_id = $1::bigint
		UNION ALL SELECT p.blob FROM cache_packs p JOIN cache_spaces s ON s.id = p.space_id WHERE s.project_id = $1::bigint
		UNION ALL SELECT h.blob FROM handovers h JOIN attempts a ON a.id = h.attempt_id WHERE a.project_id = $1::bigint
		UNION ALL SELECT log_blob FROM attempts WHERE project_id = $1::bigint AND log_blob <> ''`, project)
	return list, err
}

// RemoveProject removes a project with everything of it.
func (q Q) RemoveProject(ctx context.Context, project record.ProjectID) error {
	if err := q.do(ctx, nil, `DELETE FROM keeping WHERE project_id = $1`, project); err != nil {
		return err
	}
	for _, first := range []string{ // what no key of the records takes along, or not in time
		`DELETE FROM cache_pieces WHERE space_id IN (SELECT id FROM cache_spaces WHERE project_id = $1)`,
		`DELETE FROM caches WHERE project_id = $1`} {
		if err := q.do(ctx, nil, first, project); err != nil {
			return err
		}
	}
	return q.do(ctx, ErrNotFound, `DELETE FROM projects WHERE id = $1`, project)
}
