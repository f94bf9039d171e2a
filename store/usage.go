package store

import (
	"context"
	"time"

	"gentlepiston.example/piston/core/record"
)

// UsageFilter says of what and when machines' time is summed up.
type UsageFilter struct {
	Project  record.ProjectID // 0: all
	From, To time.Time
}

// UsedPart is what one of several used.
type UsedPart struct {
	Name   string `db:"name"`
	TookMs int64  `db:"took_ms"`
	WaitMs int64  `db:"waited_ms"`
	Runs   int    `db:"runs"`
}

// usedBy are by what usage is told.
var usedBy = map[string]string{
	"project":  `(SELECT j.name FROM projects j WHERE j.id = p.project_id)`,
	"pipeline": `p.pipeline`,
	"machine":  `p.machine`,
	"person":   `coalesce(nullif(r.started_by, ''), nullif(r.author, ''), 'by itself')`,
	"job":      `p.pipeline || ' › ' || p.job`,
}

// jobsUsed are the times of jobs that machines had; ofRuns those with their runs.
const (
	jobsUsed = ` FROM spans s JOIN places p ON p.id = s.place_id` + thoseUsed
	ofRuns   = ` FROM spans s JOIN places p ON p.id = s.place_id
		JOIN runs r ON r.project_id = p.project_id AND r.number = s.run` + thoseUsed
	thoseUsed = ` WHERE p.kind = 'job' AND p.machine <> '@service' AND ($1 = 0 OR p.project_id = $1) AND s.ended_at >= $2
		AND s.ended_at < $3`
)

// UsageBy sums the time of machines up by project, pipeline, job, machine or person, the most first.
func (q Q) UsageBy(ctx context.Context, f UsageFilter, by string) (list []UsedPart, err error) {
	from := jobsUsed
	if by == "person" {
		from = ofRuns
	}
	err = q.list(ctx, &list, `SELECT `+usedBy[by]+` AS name, sum(s.took_ms)::bigint AS took_ms,
			sum(s.waited_ms)::bigint AS waited_ms, count(DISTINCT (p.project_id, s.run)) AS runs`+from+`
		GROUP BY 1 ORDER BY took_ms DESC, name LIMIT 100`, f.Project, f.From, f.To)
	return list, err
}

// daysUsed are the times of machines by day (UTC): of days long over as they were summed up, of the last ones as they
// are. $4 is the first of those.
const daysUsed = ` FROM (SELECT d.day, d.took_ms FROM used_days d WHERE ($1 = 0 OR d.project_id = $1)
		AND d.day >= ($2::timestamptz AT TIME ZONE 'UTC')::date AND d.day < $4::date
		AND d.day < ($3::timestamptz AT TIME ZONE 'UTC')::date
	UNION ALL
	SELECT (s.ended_at AT TIME ZONE 'UTC')::date, s.took_ms` + jobsUsed + ` AND s.ended_at >= $4::date::timestamp
		AT TIME ZONE 'UTC') AS u`

// summedUp is the first day whose times are not taken as they were summed up.
func summedUp(now time.Time) string { return now.UTC().AddDate(0, 0, -1).Format(time.DateOnly) }

// Used is the time of machines that was used, in milliseconds. A day before yesterday counts whole.
func (q Q) Used(ctx context.Context, f UsageFilter, now time.Time) (ms int64, err error) {
	err = q.get(ctx, &ms, `SELECT coalesce(sum(u.took_ms), 0)::bigint`+daysUsed, f.Project, f.From, f.To, summedUp(now))
	return ms, err
}

// UsedMonth is what was used in a month.
type UsedMonth struct {
	Month  string `db:"month"`
	TookMs int64  `db:"took_ms"`
}

// UsageByMonth sums the time of machines up by month (UTC), the oldest first.
func (q Q) UsageByMonth(ctx context.Context, f UsageFilter, now time.Time) (list []UsedMonth, err error) {
	err = q.list(ctx, &list, `SELECT to_char(u.day, 'YYYY-MM') AS month, sum(u.took_ms)::bigint AS took_ms`+daysUsed+`
		GROUP BY 1 ORDER BY 1`, f.Project, f.From, f.To, summedUp(now))
	return list, err
}

// SumUpDays sums the times of machines up by day, from a few days before those that were summed up last.
func (q Q) SumUpDays(ctx context.Context) error {
	return q.do(ctx, nil, `INSERT INTO used_days (project_id, day, took_ms)
		SELECT p.project_id, (s.ended_at AT TIME ZONE 'UTC')::date, sum(s.took_ms)
		FROM spans s JOIN places p ON p.id = s.place_id WHERE p.kind = 'job' AND p.machine <> '@service'
			AND s.ended_at >= coalesce((SELECT max(day) FROM used_days)::timestamp AT TIME ZONE 'UTC' - interval '3 days',
				'-infinity')
		GROUP BY 1, 2 ORDER BY 1, 2 ON CONFLICT (project_id, day) DO UPDATE SET took_ms = excluded.took_ms`)
}

// wasted are the kinds of waste, each with what it is of jobs' times, or of all runs.
var wasted = []struct{ kind, query string }{
	{"superseded", `SELECT coalesce(sum(s.took_ms), 0)::bigint AS took_ms, count(DISTINCT r.id) AS runs` + ofRuns + `
		AND r.state = 'cancelled' AND r.reason LIKE 'superseded%'`},
	{"repeated", `SELECT coalesce(sum(s.took_ms), 0)::bigint AS took_ms, count(DISTINCT r.id) AS runs` + ofRuns + `
		AND s.attempt > 1`},
	{"flaky", `SELECT coalesce(sum(s.took_ms), 0)::bigint AS took_ms, count(DISTINCT r.id) AS runs` + ofRuns + `
		AND s.state = 'failed' AND EXISTS (SELECT FROM runs o WHERE o.project_id = r.project_id
			AND o.commit_id = r.commit_id AND o.pipeline = r.pipeline AND o.state = 'passed')`},
	// What a job took longer than it usually does with its caches.
	{"missed-caches", `WITH c AS (SELECT p.project_id, p.pipeline, p.job, p.machine, s.run, s.attempt,
				bool_or(s.state = 'missed') AS missed
			FROM spans s JOIN places p ON p.id = s.place_id WHERE p.kind = 'cache' AND ($1 = 0 OR p.project_id = $1)
				AND s.ended_at >= $2 AND s.ended_at < $3 GROUP BY 1, 2, 3, 4, 5, 6),
		j AS (SELECT p.id, s.run, s.took_ms, c.missed FROM c JOIN places p ON p.project_id = c.project_id
				AND p.pipeline = c.pipeline AND p.job = c.job AND p.machine = c.machine AND p.kind = 'job'
			JOIN spans s ON s.place_id = p.id AND s.run = c.run AND s.attempt = c.attempt),
		u AS (SELECT id, percentile_cont(0.5) WITHIN GROUP (ORDER BY took_ms) AS usual FROM j WHERE NOT missed GROUP BY id)
		SELECT coalesce(sum(greatest(0, j.took_ms - u.usual)), 0)::bigint AS took_ms, count(*) AS runs
		FROM j JOIN u USING (id) WHERE j.missed`},
	{"planning", `SELECT 0::bigint AS took_ms, count(*) AS runs FROM runs r WHERE ($1 = 0 OR r.project_id = $1)
		AND r.queued_at >= $2 AND r.queued_at < $3 AND r.state = 'failed' AND NOT EXISTS (SELECT FROM jobs j
			WHERE j.run_id = r.id)`},
}

// Waste is what could have been spared.
func (q Q) Waste(ctx context.Context, f UsageFilter) (list []UsedPart, err error) {
	for _, w := range wasted {
		var one UsedPart
		if err := q.get(ctx, &one, w.query, f.Project, f.From, f.To); err != nil {
			return nil, err
		}
		one.Name = w.kind
		list = append(list, one)
	}
	return list, nil
}

// Budget is how many minutes of machines a project may use in a month.
type Budget struct {
	ProjectID   record.ProjectID `db:"project_id"`
	Minutes     int64            `db:"minutes"`
	WarnAt      int              `db:"warn_at"` // per cent
	Hold        bool             `db:"hold"`
	SetBy       string           `db:"set_by"`
	WarnedMonth string           `db:"warned_month"`
	SpentMonth  string           `db:"spent_month"`
}

var budgetColumns = columnsOf[Budget]("b")

// SetBudget gives a project a budget, or another.
func (q Q) SetBudget(ctx context.Context, b Budget) error {
	return q.do(ctx, nil, `INSERT INTO budgets (project_id, minutes, warn_at, hold, set_by) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (project_id) DO UPDATE SET minutes = $2, warn_at = $3, hold = $4, set_by = $5, warned_month = '',
			spent_month = ''`, b.ProjectID, b.Minutes, b.WarnAt, b.Hold, b.SetBy)
}

// DropBudget takes it back.
func (q Q) DropBudget(ctx context.Context, project record.ProjectID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM budgets WHERE project_id = $1`, project)
}

// BudgetOf finds a project's.
func (q Q) BudgetOf(ctx context.Context, project record.ProjectID) (b Budget, err error) {
	err = q.get(ctx, &b, `SELECT `+budgetColumns+` FROM budgets b WHERE b.project_id = $1`, project)
	return b, err
}

// Budgets lists them all.
func (q Q) Budgets(ctx context.Context) (list []Budget, err error) {
	err = q.list(ctx, &list, `SELECT `+budgetColumns+` FROM budgets b ORDER BY b.project_id`)
	return list, err
}

// MarkBudget notes in which months a budget was warned of and used up; ErrNotFound when another has noted it.
func (q Q) MarkBudget(ctx context.Context, before, b Budget) error {
	return q.do(ctx, ErrNotFound, `UPDATE budgets SET warned_month = $2, spent_month = $3 WHERE project_id = $1
		AND warned_month = $4 AND spent_month = $5`, b.ProjectID, b.WarnedMonth, b.SpentMonth, before.WarnedMonth,
		before.SpentMonth)
}
