package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/report"
)

// The stream of server-sent events (WHATWG HTML, 9.2): hello once, then change and log. Each event's id says how far
// everything has been told, so that a client that comes back with Last-Event-ID gets what it missed, once.
// An id is the number of the last change, then for each log its name, a colon and the last line:
//
//	1042;core.1:200;android.1:14

func (sv *server) stream(a huma.API, r chi.Router) {
	event := func(name string, schema *huma.Schema) *huma.Schema {
		return &huma.Schema{Type: "object", Description: "event: " + name,
			Properties: map[string]*huma.Schema{"data": schema}}
	}
	query := func(name, doc string) *huma.Param {
		return &huma.Param{Name: name, In: "query", Description: doc, Schema: &huma.Schema{Type: "string"}}
	}
	a.OpenAPI().AddOperation(&huma.Operation{Method: http.MethodGet, Path: Prefix + "/stream", OperationID: "stream",
		Summary: "Changes of runs and lines of logs as they come, as server-sent events",
		Parameters: []*huma.Param{query("project", "Only changes of this project."),
			query("run", "Only changes of this run of the project."),
			query("log", "Also the log of this job of the run (job, or job.attempt), or * for all its logs."),
			query("cursor", "Resume from here when there is no Last-Event-ID header.")},
		Responses: map[string]*huma.Response{"200": {Description: "Events", Content: map[string]*huma.MediaType{
			"text/event-stream": {Schema: &huma.Schema{OneOf: []*huma.Schema{
				event("change", schemaOf[api.Change](a)), event("log", schemaOf[api.LogBatch](a))}}}}}}})
	r.Get(Prefix+"/stream", sv.serveStream)
}

func (sv *server) serveStream(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	sub := report.Subscription{Project: q.Get("project"), Cursors: map[string]int64{}}
	if run, _ := strconv.ParseInt(q.Get("run"), 10, 64); run != 0 {
		sub.Run = record.RunNumber(run)
		job, attempt, _ := strings.Cut(q.Get("log"), ".")
		sub.Job = job
		sub.Attempt, _ = strconv.Atoi(attempt)
	}
	position := r.Header.Get("Last-Event-ID")
	if position == "" {
		position = q.Get("cursor")
	}
	readPosition(position, &sub)
	sub.Still = func(context.Context) error {
		_, err := sv.find(r, who(r.Context()).Address)
		return err
	}
	l := &eventWriter{w: w, rc: http.NewResponseController(w)}
	if err := sv.s.Report.Subscribe(r.Context(), sub, l); err != nil && !l.begun {
		fail(w, r, err)
	}
}

func readPosition(text string, sub *report.Subscription) {
	for i, part := range strings.Split(text, ";") {
		if i == 0 {
			if n, err := strconv.ParseUint(part, 10, 63); err == nil {
				sub.After = n
			}
			continue
		}
		name, line, _ := strings.Cut(part, ":")
		if n, err := strconv.ParseInt(line, 10, 64); err == nil && n > 0 {
			sub.Cursors[name] = n
		}
	}
}

func position(seq uint64, logs map[string]int64) string {
	names := make([]string, 0, len(logs))
	for name := range logs {
		names = append(names, name)
	}
	sort.Strings(names)
	var b strings.Builder
	b.WriteString(strconv.FormatUint(seq, 10))
	for _, name := range names {
		fmt.Fprintf(&b, ";%s:%d", name, logs[name])
	}
	return b.String()
}

// stallLimit is how long a reader may take no bytes before it is cut off. It can come back where it was.
const stallLimit = 30 * time.Second

// eventWriter writes what a subscription brings as server-sent events.
type eventWriter struct {
	w     http.ResponseWriter
	rc    *http.ResponseController
	begun bool
}

func (e *eventWriter) write(text string) error {
	_ = e.rc.SetWriteDeadline(time.Now().Add(stallLimit))
	if _, err := e.w.Write([]byte(text)); err != nil {
		return err
	}
	return e.rc.Flush()
}

func (e *eventWriter) event(name, id string, data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	return e.write(fmt.Sprintf("event: %s\nid: %s\ndata: %s\n\n", name, id, text))
}

// Hello implements service.Listener.
func (e *eventWriter) Hello(seq uint64, logs map[string]int64) error {
	e.begun = true
	h := e.w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	return e.event("hello", position(seq, logs), struct{}{})
}

// Change implements service.Listener.
func (e *eventWriter) Change(seq uint64, logs map[string]int64, c api.Change) error {
	return e.event("change", position(seq, logs), c)
}

// Lines implements service.Listener.
func (e *eventWriter) Lines(seq uint64, logs map[string]int64, b api.LogBatch) error {
	return e.event("log", position(seq, logs), b)
}

// Idle implements service.Listener.
func (e *eventWriter) Idle() error { return e.write(": still here\n\n") }
