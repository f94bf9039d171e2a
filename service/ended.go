package service

import (
	"context"
	"encoding/json"
	"fmt"

	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/store"
)

// endedRun is the event that a run is over.
type endedRun struct {
	Run   int64       `json:"run"` // id
	State state.State `json:"state"`
}

// recordEnd notes that a run is over, for pipelines that wait for it. It is planned like a push: in a transaction of
// its own, and once.
func recordEnd(ctx context.Context, q store.Q, run store.Run) error {
	if !run.Followed || !run.State.Over() {
		return nil
	}
	body, err := json.Marshal(spooled{Ended: &endedRun{run.ID, run.State}})
	if err != nil {
		return err
	}
	// The id has a space, which no delivery from outside can have.
	_, _, err = q.AddPush(ctx, run.ProjectID, fmt.Sprintf("ended %d %s %d", run.ID, run.State, run.Reopenings), body)
	return err
}

// ended plans what waits for the end of a run.
func (pl *planner) ended(ctx context.Context, e endedRun) (int, error) {
	run, err := pl.q.RunByID(ctx, e.Run)
	if err != nil {
		return 0, err
	}
	if run.Depth+1 > maxDepth {
		pl.log.Warn("runs start runs without an end; this one starts no more", "project", pl.project.Name, "run", run.Number)
		return 0, nil
	}
	made, err := pl.event(ctx,
		plan.Event{Trigger: plan.OnPipeline, Branch: run.Branch, Tag: run.Tag, Commit: run.Commit, Target: run.Target,
			Proposal: run.Proposal, Outside: run.Outside, Ended: run.Pipeline, EndState: e.State},
		cause{run: run.Number, depth: run.Depth + 1})
	return len(made), err
}

// conflict says that a proposal cannot be merged.
func conflict(err error, e plan.Event) definition.Finding {
	return check.About("conflict", definition.Folder, err.Error(),
		fmt.Sprintf("Merge %s into the proposal, and settle the conflict there.", e.Target))
}
