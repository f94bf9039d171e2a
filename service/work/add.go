package work

import (
	"context"
	"maps"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// AddRun writes a run of a pipeline with its jobs, and the attempts of those that may start at once.
func (s *Work) AddRun(ctx context.Context, q ground.Q, run *store.Run, p *definition.Pipeline) error {
	run.State = state.Queued
	run.Env.V = maps.Clone(p.Env)
	run.Bisects = p.Bisect
	run.Group, run.Priority, run.AtOnce, run.LimitMs = p.Group, p.Priority, p.AtOnce, p.Limit.Value().Milliseconds()
	// A run that raises takes its number from the app's own line, when it has got that far; a try takes none.
	if err := q.AddRun(ctx, run, !p.Raises() && run.Bisection == 0); err != nil {
		return err
	}
	planned := plan.Jobs(p)
	jobs := make([]store.Job, len(planned))
	for i, j := range planned {
		jobs[i] = store.Job{RunID: run.ID, Position: i, Name: j.Name, State: j.State}
		jobs[i].Definition.V = j.Definition
	}
	if err := q.AddJobs(ctx, jobs); err != nil {
		return err
	}
	return s.SettleJobs(ctx, q, *run, jobs, "")
}
