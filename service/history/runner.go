package history

import (
	"context"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// Runner tells of a runner, and of what it did in the projects that whoever asks may see.
func (s *History) Runner(ctx context.Context, name string, f api.DidFilter) (out api.RunnerDetail, err error) {
	r, err := s.Store.RunnerByName(ctx, name)
	if err != nil {
		return out, ground.Known(err, "runner %s", name)
	}
	busy, err := s.Store.Busy(ctx)
	if err != nil {
		return out, err
	}
	out.Runner, out.Did = work.MachineOf(r, busy[name]), []api.RunnerDid{}
	if r.Host.V != (store.RunnerHost{}) {
		host := api.RunnerHost(r.Host.V)
		out.Host = &host
	}
	ids, all, err := s.Visible(ctx)
	if err != nil {
		return out, err
	}
	var projects []record.ProjectID
	if !all {
		projects = append([]record.ProjectID{}, ids...)
	}
	now := time.Now()
	if f.Before.IsZero() {
		f.Before = now
	}
	list, err := s.Store.RunnerDid(ctx, name, projects, f.Before, f.Limit)
	for _, d := range list {
		end := now
		if d.Finished != nil {
			end = *d.Finished
		}
		out.Did = append(out.Did, api.RunnerDid{Project: d.Project, Run: d.Run, Job: d.Job, Attempt: d.Number,
			State: d.State, Reason: d.Reason, Claimed: d.Claimed, Took: max(0, end.Sub(d.Claimed).Milliseconds())})
	}
	return out, err
}
