package work

import (
	"context"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// settleVersions notes what becomes of the versions of a run that is over: those of one that has passed are kept, the
// names of another are free again.
func settleVersions(ctx context.Context, q ground.Q, run store.Run) error {
	switch {
	case !run.State.Over():
		return nil
	case run.State == state.Passed:
		return q.SettleVersions(ctx, run.ID, store.VersionKept)
	}
	return q.SettleVersions(ctx, run.ID, store.VersionVoid)
}

// raisedBefore lists the versions that jobs before one have raised.
func (s *Work) raisedBefore(ctx context.Context, run store.Run, job store.Job) ([]api.Raised, error) {
	list, err := s.Store.VersionsOf(ctx, run.ID)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	all, err := s.jobsOf(ctx, run)
	if err != nil {
		return nil, err
	}
	var out []api.Raised
	for _, v := range list {
		if !all.RaisedBefore(job.Name, v.App) {
			continue
		}
		if len(out) == 0 || out[len(out)-1].App != v.App {
			out = append(out, api.Raised{App: v.App, Name: v.Name, Builds: map[string]version.BuildNumber{}, Counts: true})
		}
		out[len(out)-1].Builds[v.Platform] = v.FirstBuild
	}
	return out, nil
}
