package intake

import (
	"context"
	"fmt"
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// outcome is what a planner has found to write. All that must be read of the repository has been read when it is
// written, so that no transaction waits for Git or a network.
type outcome struct {
	own       []string         // commits that the service has made
	heads     []head           // what pipelines have seen
	runs      []plannedRun     // in the order of their numbers
	schedules []store.Schedule // the project's from now on, when keeps is set
	keeps     bool
	ran       *dueSchedule // the schedule whose run the first is
}

type head struct{ pipeline, branch, commit string }

// plannedRun is a run of a pipeline; of none when the run has failed before it began.
type plannedRun struct {
	run store.Run
	of  *definition.Pipeline
}

// write writes what was found, and gives the runs.
func (pl *planner) write(ctx context.Context, q ground.Q) ([]store.Run, error) {
	for _, commit := range pl.out.own {
		if err := q.AddOwnCommit(ctx, pl.project.ID, commit); err != nil {
			return nil, err
		}
	}
	for _, h := range pl.out.heads {
		if err := q.SetHead(ctx, pl.project.ID, h.pipeline, h.branch, h.commit); err != nil {
			return nil, err
		}
	}
	var runs []store.Run
	for _, p := range pl.out.runs {
		if err := pl.add(ctx, q, &p.run, p.of); err != nil {
			return nil, err
		}
		runs = append(runs, p.run)
	}
	if pl.out.keeps {
		if err := q.SetSchedules(ctx, pl.project.ID, pl.out.schedules); err != nil {
			return nil, err
		}
	}
	if d := pl.out.ran; d != nil && len(runs) > 0 {
		return runs, q.ScheduleRan(ctx, pl.project.ID, d.Pipeline, d.Name, runs[0].Number)
	}
	return runs, nil
}

// add writes one run.
func (pl *planner) add(ctx context.Context, q ground.Q, run *store.Run, of *definition.Pipeline) error {
	if definition.HasErrors(run.Findings.V) {
		return addBroken(ctx, q, run)
	}
	if err := pl.work.AddRun(ctx, q, run, of); err != nil || run.Trigger != plan.OnPush {
		return err
	}
	return pl.supersede(ctx, q, *run, of)
}

// addBroken writes a run that failed before it began, so that a mistake in a file is seen and not silence.
func addBroken(ctx context.Context, q ground.Q, run *store.Run) error {
	now := time.Now()
	run.State, run.Finished = state.Failed, &now
	for _, f := range run.Findings.V {
		if f.Severity == definition.Error {
			run.Reason, run.FailedAt = f.Message, f.File
			if f.Line > 0 {
				run.FailedAt = fmt.Sprintf("%s:%d", f.File, f.Line)
			}
			break
		}
	}
	if err := q.AddRun(ctx, run, false); err != nil {
		return err
	}
	if err := work.RecordEnd(ctx, q, *run); err != nil {
		return err
	}
	return q.Tell(ctx, ground.OfRun(fact.RunChanged, *run))
}

// supersede cancels the older runs of a branch that a newer push makes pointless.
func (pl *planner) supersede(ctx context.Context, q ground.Q, by store.Run, p *definition.Pipeline) error {
	if p.Supersede == definition.SupersedeNone {
		return nil
	}
	older, err := q.OlderOpenRuns(ctx, by.ProjectID, by.Pipeline, by.Branch, by.Number)
	if err != nil {
		return err
	}
	for _, o := range older {
		run, err := q.LockRun(ctx, o.ID)
		if err != nil {
			return err
		}
		if run.State.Over() || run.State != state.Queued && p.Supersede != definition.SupersedeRunning {
			continue
		}
		reason := fmt.Sprintf("superseded by run %d", by.Number)
		if err := work.CancelWaiting(ctx, q, run, state.Cancelled, reason); err != nil {
			return err
		}
		if err := pl.work.Settle(ctx, q, run, reason); err != nil {
			return err
		}
	}
	return nil
}
