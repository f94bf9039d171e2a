package store

import (
	"context"
	"strings"
	"time"

	"gentlepiston.example/piston/core/record"
)

// UsageFilter says of what and when machines' time is summed up.
type UsageFilter struct {
	Project  record.ProjectID // 0: all
	From, To time.Time
}

// args are what a query over daysUsed takes: of days long over what was summed up, of the last ones what is there.
func (f UsageFilter) args(now time.Time) []any {
	last := summedUp(now)
	from := f.From
	if from.Before(last) {
		from = last
	}
	day := func(t time.Time) string { return t.UTC().Format(time.DateOnly) }
	until := f.To.Add(24*time.Hour - time.Nanosecond) // a day that is begun counts whole
	if until.After(last) {
		until = last
	}
	return []any{f.Project, from, f.To, day(f.From), day(until)}
}

// summedUp is the first day (UTC) that is not taken as it was summed up.
func summedUp(now time.Time) time.Time { return now.UTC().AddDate(0, 0, -1).Truncate(24 * time.Hour) }

// UsedPart is what one of several used.
type UsedPart struct {
	Name   string `db:"name"`
	TookMs int64  `db:"took_ms"`
	WaitMs int64  `db:"waited_ms"`
	Runs   int    `db:"runs"`
}

// jobsUsed are the times of jobs that machines had, under a name; with what else is asked of them, it may ask their
// runs, r.
func jobsUsed(name, and string) string {
	runs := ""
	if strings.Contains(name+and, "r.") {
		runs = ` JOIN runs r ON r.project_id = p.project_id AND r.number = s.run`
	}
	return `SELECT p.project_id, (s.ended_at AT TIME ZONE 'UTC')::date AS day, ` + name + ` AS name, s.run, s.took_ms,
		s.waited_ms FROM spans s JOIN places p ON p.id = s.place_id` + runs + ` WHERE p.kind = 'job'
		AND p.machine <> '@service' AND ($1 = 0 OR p.project_id = $1) AND s.ended_at >= $2 AND s.ended_at < $3` + and
}

// missedCaches is what jobs that missed a cache took longer than they usually did, the thirty times before, without.
const missedCaches = `SELECT p.project_id, (s.ended_at AT TIME ZONE 'UTC')::date AS day, 'missed-caches' AS name, s.run,
		greatest(0, s.took_ms - u.usual)::bigint, 0
	FROM (SELECT DISTINCT p.project_id, p.pipeline, p.job, p.machine, s.run, s.attempt FROM spans s
			JOIN places p ON p.id = s.place_id WHERE p.kind = 'cache' AND ($1 = 0 OR p.project_id = $1)
			AND s.ended_at >= $2 AND s.ended_at < $3 AND s.state = 'missed') AS c
	JOIN places p ON p.project_id = c.project_id AND p.pipeline = c.pipeline AND p.job = c.job AND p.machine = c.machine
		AND p.kind = 'job'
	JOIN spans s ON s.place_id = p.id AND s.run = c.run AND s.attempt = c.attempt
	JOIN LATERAL (SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY b.took_ms) AS usual
		FROM (SELECT b.took_ms FROM spans b WHERE b.place_id = p.id AND b.run < s.run AND NOT EXISTS (SELECT FROM spans m
			JOIN places o ON o.id = m.place_id WHERE o.project_id = p.project_id AND o.pipeline = p.pipeline
				AND o.job = p.job AND o.machine = p.machine AND o.kind = 'cache' AND m.run = b.run
				AND m.attempt = b.attempt AND m.state = 'missed')
			ORDER BY b.run DESC LIMIT 30) AS b) AS u ON u.usual IS NOT NULL`

// usedBy are by what usage is told: rows of the times of jobs, each with its project, day, name and run. What could
// have been spared is one of them. $1 is the project, or 0; $2 and $3 when it begins and ends.
var usedBy = map[string]string{
	"project":  jobsUsed(`''`, ``),
	"pipeline": jobsUsed(`p.pipeline`, ``),
	"machine":  jobsUsed(`p.machine`, ``),
	"person":   jobsUsed(`coalesce(nullif(r.started_by, ''), nullif(r.author, ''), 'by itself')`, ``),
	"job":      jobsUsed(`p.pipeline || ' › ' || p.job`, ``),
	waste: strings.Join([]string{
		jobsUsed(`'superseded'`, ` AND r.state = 'cancelled' AND r.reason LIKE 'superseded%'`),
		jobsUsed(`'repeated'`, ` AND s.attempt > 1`),
		// Asked for each job that failed: by itself the planner begins with all runs that passed.
		jobsUsed(`'flaky'`, ` AND s.state = 'failed' AND (SELECT true FROM runs o WHERE o.project_id = r.project_id
			AND o.commit_id = r.commit_id AND o.pipeline = r.pipeline AND o.state = 'passed' LIMIT 1)`),
		missedCaches,
		`SELECT r.project_id, (r.queued_at AT TIME ZONE 'UTC')::date, 'planning', r.number, 0, 0 FROM runs r
			WHERE ($1 = 0 OR r.project_id = $1) AND r.queued_at >= $2 AND r.queued_at < $3 AND r.state = 'failed'
			AND NOT EXISTS (SELECT FROM jobs j WHERE j.run_id = r.id)`,
	}, " UNION ALL "),
}

// waste is what could have been spared, as one of those by which usage is told; wasted are its kinds.
const waste = "waste"

var wasted = []string{"superseded", "repeated", "flaky", "missed-caches", "planning"}

// summed are such rows, summed up by day. A run counts on the first of its days.
func summed(rows string) string {
	return `SELECT project_id, day, name, sum(took_ms)::bigint AS took_ms, sum(waited_ms)::bigint AS waited_ms,
			count(*) FILTER (WHERE day = first) AS runs
		FROM (SELECT project_id, day, name, run, sum(took_ms) AS took_ms, sum(waited_ms) AS waited_ms,
				min(day) OVER (PARTITION BY project_id, name, run) AS first
			FROM (` + rows + `) AS u GROUP BY project_id, day, name, run) AS u
		GROUP BY project_id, day, name`
}

// daysUsed is what was used day by day (UTC): of days long over as it was summed up, of the last ones as it is. It
// takes the args of a filter.
func daysUsed(by string) string {
	return ` FROM (SELECT d.project_id, d.day, d.name, d.took_ms, d.waited_ms, d.runs FROM used_days d
			WHERE d.by = '` + by + `' AND ($1 = 0 OR d.project_id = $1) AND d.day >= $4::date AND d.day < $5::date
		UNION ALL ` + summed(usedBy[by]) + `) AS u`
}

// UsageBy sums the time of machines up by project, pipeline, job, machine or person, the most first.
func (q Q) UsageBy(ctx context.Context, f UsageFilter, by string, now time.Time) (list []UsedPart, err error) {
	name := `u.name`
	if by == "project" {
		name = `(SELECT p.name FROM projects p WHERE p.id = u.project_id)`
	}
	err = q.list(ctx, &list, `SELECT `+name+` AS name, sum(u.took_ms)::bigint AS took_ms,
			sum(u.waited_ms)::bigint AS waited_ms, sum(u.runs)::bigint AS runs`+daysUsed(by)+`
		GROUP BY 1 ORDER BY took_ms DESC, name LIMIT 100`, f.args(now)...)
	return list, err
}

// Waste is what could have been spared, of each kind.
func (q Q) Waste(ctx context.Context, f UsageFilter, now time.Time) (list []UsedPart, err error) {
	found, err := q.UsageBy(ctx, f, waste, now)
	for _, kind := range wasted {
		one := UsedPart{Name: kind}
		for _, w := range found {
			if w.Name == kind {
				one = w
			}
		}
		list = append(list, one)
	}
	return list, err
}

// Used is the time of machines that was used, in milliseconds. A day before yesterday counts whole.
func (q Q) Used(ctx context.Context, f UsageFilter, now time.Time) (ms int64, err error) {
	err = q.get(ctx, &ms, `SELECT coalesce(sum(u.took_ms), 0)::bigint`+daysUsed("project"), f.args(now)...)
	return ms, err
}

// UsedMonth is what was used in a month.
type UsedMonth struct {
	Month  string `db:"month"`
	TookMs int64  `db:"took_ms"`
}

// UsageByMonth sums the time of machines up by month (UTC), the oldest first.
func (q Q) UsageByMonth(ctx context.Context, f UsageFilter, now time.Time) (list []UsedMonth, err error) {
	err = q.list(ctx, &list, `SELECT to_char(u.day, 'YYYY-MM') AS month, sum(u.took_ms)::bigint AS took_ms`+
		daysUsed("project")+` GROUP BY 1 ORDER BY 1`, f.args(now)...)
	return list, err
}

// SummedUpFrom is the day from which on what was used is to be summed up: a few days before the last one that was,
// else the first there is. Days to come are those of a clock that was wrong: they hold up nothing.
func (q Q) SummedUpFrom(ctx context.Context, now time.Time) (from time.Time, err error) {
	var last, first *time.Time
	err = q.get(ctx, &last, `SELECT max(day)::timestamp AT TIME ZONE 'UTC' FROM used_days WHERE day <= $1::date`,
		now.UTC().Format(time.DateOnly))
	if err != nil || last != nil {
		if last != nil {
			from = last.AddDate(0, 0, -3)
		}
		return from, err
	}
	err = q.get(ctx, &first, `SELECT least((SELECT min(ended_at) FROM spans), (SELECT min(queued_at) FROM runs))`)
	if first != nil {
		return first.UTC().Truncate(24 * time.Hour), err
	}
	return now, err
}

// SumUp sums up what a project, or 0 for all, used from one day (UTC) to another, which is not one of them. It is for
// a transaction: meanwhile those days are gone.
func (q Q) SumUp(ctx context.Context, project record.ProjectID, from, to time.Time) error {
	first, end := from.UTC().Format(time.DateOnly), to.UTC().Format(time.DateOnly)
	// Whoever removes a project is waited for, or waits, before anything of it is held here. Then: two that sum up at a
	// time would write the same rows.
	err := q.do(ctx, nil, `SELECT id FROM projects ORDER BY id FOR KEY SHARE`)
	if err == nil {
		err = q.do(ctx, nil, `LOCK TABLE used_days IN SHARE ROW EXCLUSIVE MODE`)
	}
	if err != nil {
		return err
	}
	err = q.do(ctx, nil, `DELETE FROM used_days WHERE ($1 = 0 OR project_id = $1) AND day >= $2::date AND day < $3::date`,
		project, first, end)
	if err != nil {
		return err
	}
	for by, rows := range usedBy {
		// The day before is read, too: a run that has begun on it counts there.
		err := q.do(ctx, nil, `INSERT INTO used_days (by, project_id, day, name, took_ms, waited_ms, runs)
			SELECT '`+by+`', u.project_id, u.day, u.name, u.took_ms, u.waited_ms, u.runs FROM (`+summed(rows)+`) AS u
			WHERE u.day >= $4::date`, project, from.AddDate(0, 0, -1), to, first)
		if err != nil {
			return err
		}
	}
	return nil
}

// EndOfTime is after every day there is, and one that records have.
var EndOfTime = time.Date(9999, 12, 31, 0, 0, 0, 0, time.UTC)
