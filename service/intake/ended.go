package intake

import (
	"context"
	"fmt"

	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/service/work"
)

// ended plans what waits for the end of a run.
func (pl *planner) ended(ctx context.Context, e work.EndedRun) error {
	run, err := pl.Store.RunByID(ctx, e.Run)
	if err != nil {
		return err
	}
	if run.Depth+1 > MaxDepth {
		pl.Log.Warn("runs start runs without an end; this one starts no more", "project", pl.project.Name, "run", run.Number)
		return nil
	}
	return pl.event(ctx,
		plan.Event{Trigger: plan.OnPipeline, Branch: run.Branch, Tag: run.Tag, Commit: run.Commit, Target: run.Target,
			Proposal: run.Proposal, Outside: run.Outside, Ended: run.Pipeline, EndState: e.State},
		cause{run: run.Number, depth: run.Depth + 1})
}

// conflict says that a proposal cannot be merged.
func conflict(err error, e plan.Event) definition.Finding {
	return check.About("conflict", definition.Folder, err.Error(),
		fmt.Sprintf("Merge %s into the proposal, and settle the conflict there.", e.Target))
}
