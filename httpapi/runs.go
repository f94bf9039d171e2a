package httpapi

import (
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/service/report"
)

// RunPath names a run; exported, since only then can other inputs embed it.
type RunPath struct {
	Project string           `path:"project" maxLength:"63"`
	Number  record.RunNumber `path:"number" minimum:"1"`
}

func (sv *server) runs(a huma.API, r chi.Router) {
	operation(a, http.MethodGet, "/projects/{project}/runs", "list-runs", "List runs, newest first",
		func(ctx context.Context, in *struct {
			Project  string           `path:"project" maxLength:"63"`
			Pipeline string           `query:"pipeline"`
			Branch   string           `query:"branch"`
			State    string           `query:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped,waiting"`
			Commit   string           `query:"commit" maxLength:"64" pattern:"^([0-9a-f]{4,64})?$" doc:"Id, or how it begins."`
			Before   record.RunNumber `query:"before" minimum:"0" doc:"Only lower numbers: next of the page before."`
			Tries    bool             `query:"tries" doc:"Those of searches for the first bad change, too."`
			Limit    int              `query:"limit" minimum:"1" maximum:"200" default:"30"`
		}) (api.RunPage, error) {
			return sv.s.Report.Runs(ctx, in.Project,
				report.RunFilter{Pipeline: in.Pipeline, Branch: in.Branch, State: state.State(in.State), Commit: in.Commit,
					Before: in.Before, Limit: in.Limit, Tries: in.Tries})
		})
	operation(a, http.MethodPost, "/projects/{project}/runs", "start-run", "Start a pipeline by hand",
		func(ctx context.Context, in *struct {
			Project string `path:"project" maxLength:"63"`
			Body    api.StartRun
		}) (api.Run, error) {
			return sv.s.Intake.StartRun(ctx, in.Project, who(ctx).Name, in.Body)
		})
	operation(a, http.MethodGet, "/projects/{project}/runs/{number}", "get-run", "A run with all that happened in it",
		func(ctx context.Context, in *RunPath) (api.RunDetail, error) {
			return sv.s.Report.Run(ctx, in.Project, in.Number)
		})
	command(a, http.MethodPost, "/projects/{project}/runs/{number}/stop", "stop-run", "Stop a run",
		func(ctx context.Context, in *RunPath) error {
			return sv.s.Work.StopRun(ctx, in.Project, in.Number, who(ctx).Name)
		})
	operation(a, http.MethodGet, "/projects/{project}/runs/{number}/jobs/{job}/log", "read-log", "A part of a job's log",
		func(ctx context.Context, in *struct {
			RunPath
			Job     string `path:"job" maxLength:"400"`
			Attempt int    `query:"attempt" minimum:"0" doc:"0 or absent: the latest."`
			From    int64  `query:"from" minimum:"0" doc:"First line wanted, from 1."`
			Tail    int64  `query:"tail" minimum:"0" doc:"Instead of from: the last so many lines."`
			Limit   int    `query:"limit" minimum:"1" maximum:"5000" default:"1000"`
		}) (api.LogPart, error) {
			return sv.s.Logs.Log(ctx, in.Project, in.Number,
				logs.LogRequest{Job: in.Job, Attempt: in.Attempt, From: in.From, Tail: in.Tail, Limit: in.Limit})
		})

	operation(a, http.MethodGet, "/projects/{project}/runs/{number}/jobs/{job}/log/against", "compare-logs",
		"In what a job's log differs from that of another run, but for times, hashes and the like",
		func(ctx context.Context, in *struct {
			JobPath
			Run record.RunNumber `query:"run" required:"true" minimum:"1" doc:"The other run."`
		}) (api.LogComparison, error) {
			return sv.s.Logs.Compare(ctx, in.Project, in.Number, in.Job, in.Run)
		})
	document(a, "/projects/{project}/runs/{number}/jobs/{job}/log.txt", "download-log", "A job's whole log as plain text",
		"text/plain")
	r.Get(Prefix+"/projects/{project}/runs/{number}/jobs/{job}/log.txt", sv.downloadLog)
	document(a, "/projects/{project}/runs/{number}/artifacts/{id}", "download-artifact", "An artifact",
		"application/octet-stream")
	r.Get(Prefix+"/projects/{project}/runs/{number}/artifacts/{id}", sv.downloadArtifact)
}

// document describes a download, which is served as it is and not through JSON.
func document(a huma.API, path, id, summary, mediaType string) {
	var params []*huma.Param
	for _, name := range pathParams(path) {
		params = append(params, &huma.Param{Name: name, In: "path", Required: true, Schema: &huma.Schema{Type: "string"}})
	}
	a.OpenAPI().AddOperation(&huma.Operation{Method: http.MethodGet, Path: Prefix + path, OperationID: id,
		Summary: summary, Parameters: params,
		Responses: map[string]*huma.Response{"200": {Description: "The bytes", Content: map[string]*huma.MediaType{
			mediaType: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}})
}

func pathParams(path string) (names []string) {
	for i := 0; i < len(path); i++ {
		if path[i] == '{' {
			end := i
			for path[end] != '}' {
				end++
			}
			names = append(names, path[i+1:end])
			i = end
		}
	}
	return names
}

// number is the part of a path that is a number.
func number[T ~int64](r *http.Request, name string) T {
	n, err := strconv.ParseInt(chi.URLParam(r, name), 10, 64)
	if err != nil {
		return 0 // no record has this number
	}
	return T(n)
}

func (sv *server) downloadLog(w http.ResponseWriter, r *http.Request) {
	job := chi.URLParam(r, "job")
	attempt, _ := strconv.Atoi(r.URL.Query().Get("attempt"))
	project, run := chi.URLParam(r, "project"), number[record.RunNumber](r, "number")
	if _, err := sv.s.Logs.Log(r.Context(), project, run,
		logs.LogRequest{Job: job, Attempt: attempt, Limit: 1}); err != nil {
		fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if err := sv.s.Logs.WriteLog(r.Context(), project, run, job, attempt, w); err != nil {
		panic(http.ErrAbortHandler) // half a log must not look like a whole one
	}
}

func (sv *server) downloadArtifact(w http.ResponseWriter, r *http.Request) {
	f, content, err := sv.s.Report.OpenArtifact(r.Context(), chi.URLParam(r, "project"),
		number[record.RunNumber](r, "number"), number[record.ArtifactID](r, "id"))
	if err != nil {
		fail(w, r, err)
		return
	}
	defer content.Close()
	h := w.Header()
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Length", strconv.FormatInt(f.Size, 10))
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": path.Base(f.Path)}))
	h.Set("ETag", fmt.Sprintf("%q", f.SHA256))
	if _, err := io.Copy(w, content); err != nil {
		panic(http.ErrAbortHandler)
	}
}
