package work

import (
	"context"
	"strconv"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
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
	if run.Env.V["PISTON_BUILD_NUMBER"] == "" {
		return nil, nil // it has raised nothing
	}
	all, err := s.jobsOf(ctx, run)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.VersionsOf(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	if (run.Outside || run.Trigger == plan.OnProposal) && all.RaisedBefore(job.Name, "") {
		return []api.Raised{uncounted(run, all)}, nil
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

// uncounted is the version of a run that has none in the ledger, such as a proposal's, as its steps find it.
func uncounted(run store.Run, all *definition.Pipeline) api.Raised {
	out := api.Raised{Name: run.VersionName, Builds: map[string]version.BuildNumber{}}
	for _, name := range all.JobNames() {
		for _, s := range all.Job[name].Step {
			if s.Raise != nil && out.App == "" {
				out.App = s.Raise.App
			}
		}
	}
	for platform, variable := range map[string]string{"android": "PISTON_BUILD_NUMBER_ANDROID",
		"ios": "PISTON_BUILD_NUMBER_IOS"} {
		if n, err := strconv.ParseInt(run.Env.V[variable], 10, 64); err == nil {
			out.Builds[platform] = version.BuildNumber(n)
		}
	}
	return out
}
