package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/cron"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// dueSchedule is the event that a schedule's time has come.
type dueSchedule struct {
	Pipeline string    `json:"pipeline"`
	Name     string    `json:"name"`
	Branch   string    `json:"branch"`
	At       time.Time `json:"at"`
	Missed   int       `json:"missed"` // times that passed while the service was away
}

// late is how long after its time a schedule counts as missed.
const late = 5 * time.Minute

// keepSchedules finds that a project's schedules are those of a commit of its main branch.
func (pl *planner) keepSchedules(ctx context.Context, commit string) error {
	snap, err := pl.view.at(ctx, commit)
	if err != nil {
		return err
	}
	var list []store.Schedule
	for _, f := range snap.check(pl.known, "").Files {
		if f.Pipeline == nil {
			continue
		}
		for name, d := range f.Pipeline.Trigger.Schedule {
			times, err := d.Times()
			if err != nil {
				return err // Parse has checked it
			}
			list = append(list, store.Schedule{Pipeline: f.Name, Name: name, Cron: d.Cron, Zone: d.Zone, Branch: d.Branch,
				Next: times.Next(time.Now())})
		}
	}
	pl.out.schedules, pl.out.keeps = list, true
	return nil
}

// StartDue records the schedules whose time has come, each once on however many servers, and moves them on.
func (s *Intake) StartDue(ctx context.Context) error {
	now := time.Now()
	due, err := s.Store.DueSchedules(ctx, now)
	for _, d := range due {
		var id record.PushID
		err := s.Tx(ctx, func(q ground.Q) error {
			taken, err := q.TakeSchedule(ctx, d)
			if err != nil {
				return err
			}
			next, event, err := advance(taken, now)
			if err != nil {
				return err
			}
			note := ""
			if event.Missed > 0 {
				note = fmt.Sprintf("%d missed while the service was away; made up for at %s", event.Missed,
					now.UTC().Format(time.RFC3339))
			}
			body, err := json.Marshal(Spooled{Due: &event})
			if err != nil {
				return err
			}
			if id, _, err = q.AddPush(ctx, d.ProjectID,
				fmt.Sprintf("due %s %s %s", d.Pipeline, d.Name, event.At.UTC().Format(time.RFC3339)), body); err != nil {
				return err
			}
			return q.ScheduleDone(ctx, taken, next, note)
		})
		if errors.Is(err, store.ErrNotFound) {
			continue // another server has it
		}
		if err != nil {
			return err
		}
		s.PlanRecorded(ctx, d.ProjectID, id)
	}
	return err
}

// advance finds a schedule's next time, and how many were missed.
func advance(d store.Schedule, now time.Time) (next time.Time, event dueSchedule, err error) {
	zone, err := cron.Zone(d.Zone)
	if err != nil {
		return next, event, err
	}
	times, err := cron.Parse(d.Cron, zone)
	if err != nil {
		return next, event, err
	}
	event = dueSchedule{Pipeline: d.Pipeline, Name: d.Name, Branch: d.Branch, At: d.Next}
	for at := d.Next; !at.IsZero() && !at.After(now); at = times.Next(at) {
		if now.Sub(at) > late {
			event.Missed++
		}
		event.At = at
	}
	return times.Next(now), event, nil
}

// due plans the run of a schedule.
func (pl *planner) due(ctx context.Context, d dueSchedule) error {
	branch := d.Branch
	if branch == "" {
		branch = pl.view.main
	}
	why := cause{}
	if d.Missed > 0 {
		note := check.About("schedule-missed", definition.Folder+"/"+d.Pipeline+".toml",
			fmt.Sprintf("schedule %q: %d times passed while the service was away; this run makes up for them", d.Name, d.Missed),
			"")
		why.note = &note
	}
	commit, err := pl.view.reader.Commit("refs/heads/" + branch)
	if err != nil {
		return fmt.Errorf("schedule %s of %s builds branch %q: %w", d.Name, d.Pipeline, branch, err)
	}
	pl.out.ran = &d
	return pl.event(ctx,
		plan.Event{Trigger: plan.OnSchedule, Branch: branch, Commit: commit.ID, Schedule: d.Name, Pipeline: d.Pipeline}, why)
}

// Schedules lists when a project's pipelines are due.
func (s *Intake) Schedules(ctx context.Context, project string) ([]api.Schedule, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Schedules(ctx, p.ID)
	out := make([]api.Schedule, 0, len(list))
	for _, d := range list {
		zone := d.Zone
		if zone == "" {
			zone = "UTC"
		}
		out = append(out, api.Schedule{Pipeline: d.Pipeline, Name: d.Name, Cron: d.Cron, Zone: zone, Branch: d.Branch,
			Next: d.Next, LastRun: d.LastRun, Note: d.Note})
	}
	slices.SortFunc(out, func(a, b api.Schedule) int { return a.Next.Compare(b.Next) })
	return out, err
}
