package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// AttemptPath names an attempt; exported, since only then can other inputs embed it.
type AttemptPath struct {
	Attempt record.AttemptID `path:"attempt" minimum:"1"`
}

// RunnerPath names a runner; exported, since only then can other inputs embed it.
type RunnerPath struct {
	Name string `path:"name" maxLength:"63"`
}

// runners registers what runners say and people see of them. Every report names its attempt; one that is over
// answers 410 and changes nothing.
func (sv *server) runners(a huma.API, r chi.Router) {
	operation(a, http.MethodGet, "/runners", "list-runners", "List runners by name",
		func(ctx context.Context, in *struct{ api.Page }) ([]api.Runner, error) {
			return sv.s.Work.Runners(ctx, in.Page)
		})
	operation(a, http.MethodGet, "/runners/{name}", "runner", "One runner: its machine, and what it did",
		func(ctx context.Context, in *struct {
			RunnerPath
			api.DidFilter
		}) (api.RunnerDetail, error) {
			return sv.s.History.Runner(ctx, in.Name, in.DidFilter)
		})
	operation(a, http.MethodPut, "/runners/{name}/hold", "hold-runner",
		"Let a runner finish what it has and hand it no more, or resume it", func(ctx context.Context, in *struct {
			RunnerPath
			Body api.Hold
		}) (api.Runner, error) {
			return sv.s.Work.HoldRunner(ctx, in.Name, in.Body.Reason)
		})
	command(a, http.MethodDelete, "/runners/{name}", "forget-runner", "Forget a runner that is away",
		func(ctx context.Context, in *RunnerPath) error {
			return sv.s.Work.ForgetRunner(ctx, in.Name)
		})
	operation(a, http.MethodPost, "/runner/claim", "claim", "Ask for work",
		func(ctx context.Context, in *struct{ Body api.ClaimRequest }) (api.Claimed, error) {
			return sv.s.Work.Claim(ctx, in.Body)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/beat", "beat", "Still at work; is it still wanted?",
		func(ctx context.Context, in *AttemptPath) (api.Beat, error) {
			return sv.s.Work.Beat(ctx, in.Attempt)
		})
	command(a, http.MethodPost, "/runner/attempts/{attempt}/prepared", "prepared", "Checkout and caches are there",
		func(ctx context.Context, in *struct {
			AttemptPath
			Body api.Prepared
		}) error {
			return sv.s.Work.Prepared(ctx, in.Attempt, in.Body)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/deal", "deal",
		"What of a list of tests falls to this variant of the job", func(ctx context.Context, in *struct {
			AttemptPath
			Body api.DealRequest
		}) (api.Dealt, error) {
			return sv.s.History.Deal(ctx, in.Attempt, in.Body)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/raise", "raise",
		"Take the next version of an app from the ledger", func(ctx context.Context, in *struct {
			AttemptPath
			Body api.RaiseRequest
		}) (api.Raised, error) {
			return sv.s.Versions.Raise(ctx, in.Attempt, in.Body)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/land", "land",
		"Bring the run's version back into the repository", func(ctx context.Context, in *struct {
			AttemptPath
			Body api.LandRequest
		}) (api.Landed, error) {
			return sv.s.Versions.Land(ctx, in.Attempt, in.Body)
		})
	command(a, http.MethodPost, "/runner/attempts/{attempt}/steps", "report-steps", "Steps began or ended, in this order",
		func(ctx context.Context, in *struct {
			AttemptPath
			Body []api.StepReport `minItems:"1" maxItems:"1000"`
		}) error {
			return sv.s.Work.ReportSteps(ctx, in.Attempt, in.Body)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/finish", "finish", "The attempt is over",
		func(ctx context.Context, in *struct {
			AttemptPath
			Body api.Finish
		}) (api.Finished, error) {
			if err := sv.s.Work.FinishAttempt(ctx, in.Attempt, in.Body); err != nil {
				return api.Finished{}, err
			}
			return sv.s.Stays.Finished(ctx, in.Attempt)
		})
	command(a, http.MethodPost, "/runner/attempts/{attempt}/hand-back", "hand-back",
		"The runner is being ended: let another do it; it counts as no try", func(ctx context.Context, in *struct {
			AttemptPath
			Body api.HandBack
		}) error {
			return sv.s.Work.HandBack(ctx, in.Attempt, in.Body)
		})
	command(a, http.MethodPost, "/runner/attempts/{attempt}/log", "append-log", "Further log lines in their written form",
		func(ctx context.Context, in *struct {
			AttemptPath
			First   int64  `query:"first" minimum:"1"`
			RawBody []byte `contentType:"text/plain"`
		}) error {
			return sv.s.Logs.AppendLog(ctx, in.Attempt, in.First, in.RawBody)
		})
	r.Put(Prefix+"/runner/attempts/{attempt}/artifacts", sv.keepArtifact)
	r.Put(Prefix+"/runner/attempts/{attempt}/handovers/{name}", sv.takeHandover)
	r.Get(Prefix+"/runner/attempts/{attempt}/handovers/{job}/{name}", sv.sendHandover)
}

// attemptOf is the attempt that a path names.
func attemptOf(r *http.Request) record.AttemptID { return number[record.AttemptID](r, "attempt") }

func (sv *server) takeHandover(w http.ResponseWriter, r *http.Request) {
	if err := sv.s.Work.HandOver(r.Context(), attemptOf(r), chi.URLParam(r, "name"), r.Body); err != nil {
		fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (sv *server) sendHandover(w http.ResponseWriter, r *http.Request) {
	content, err := sv.s.Work.OpenHandover(r.Context(), attemptOf(r), chi.URLParam(r, "job"), chi.URLParam(r, "name"))
	send(w, r, content, err)
}

func (sv *server) keepArtifact(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	kept, err := sv.s.Work.KeepArtifact(r.Context(), attemptOf(r), q.Get("name"), q.Get("path"), q.Get("sha256"),
		r.Body)
	if err != nil {
		fail(w, r, err)
		return
	}
	writeJSON(w, http.StatusOK, "application/json", kept)
}
