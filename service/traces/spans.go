package traces

import (
	"context"
	"fmt"
	"time"

	common "go.opentelemetry.io/proto/otlp/common/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	trace "go.opentelemetry.io/proto/otlp/trace/v1"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/traced"
	"gentlepiston.example/piston/store"
)

// spans are those of a run: itself, its jobs' attempts since it was opened, their preparation, and their steps. Names
// of attributes are OpenTelemetry's (semantic conventions, CICD and VCS).
func (s *Traces) spans(ctx context.Context, run store.Run) (*trace.TracesData, error) {
	of, err := s.Store.PartsOf(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	names := map[record.JobID]string{}
	for _, j := range of.Jobs {
		names[j.ID] = j.Name
	}
	id := traced.OfRun(run.ID, run.Queued, run.Reopenings)
	from := run.Queued
	if run.Reopened != nil {
		from = *run.Reopened
	}
	b := &builder{id: id}
	whole := b.add(id.Whole(), traced.Span{}, run.Pipeline, from, orNow(run.Finished), run.State, run.Reason)
	attributes(whole, "cicd.pipeline.name", run.Pipeline, "cicd.pipeline.run.id", fmt.Sprint(run.Number),
		"cicd.pipeline.result", resultOf(run.State), "vcs.ref.head.name", run.Branch+run.Tag,
		"vcs.ref.head.revision", run.Commit, "piston.project", run.Project)
	if s.public != "" {
		attributes(whole, "cicd.pipeline.run.url.full", fmt.Sprintf("%s/%s/%d", s.public, run.Project, run.Number))
	}
	for _, a := range of.Attempts {
		if a.Claimed == nil || a.Finished == nil || a.Queued.Before(from) {
			continue
		}
		span := b.add(id.Attempt(a.ID), id.Whole(), names[a.JobID], *a.Claimed, *a.Finished, a.State, a.Reason)
		attributes(span, "cicd.pipeline.task.name", names[a.JobID], "cicd.pipeline.task.run.id", fmt.Sprint(a.ID),
			"cicd.pipeline.task.run.result", resultOf(a.State), "cicd.worker.name", a.Runner,
			"piston.waited_ms", fmt.Sprint(max(0, a.Claimed.Sub(a.Queued).Milliseconds())))
		if a.Prepared != nil {
			b.add(id.Prepared(a.ID), id.Attempt(a.ID), "preparation", *a.Claimed, *a.Prepared, state.Passed, "")
		}
		for _, st := range of.Steps {
			if st.AttemptID != a.ID || st.Started == nil || st.Finished == nil {
				continue
			}
			span := b.add(id.Step(a.ID, st.Position), id.Attempt(a.ID), st.Name, *st.Started, *st.Finished, st.State, st.Reason)
			attributes(span, "piston.step", st.Name, "piston.state", string(st.State))
		}
	}
	return &trace.TracesData{ResourceSpans: []*trace.ResourceSpans{{
		Resource:   &resource.Resource{Attributes: pairs("service.name", "gentle-piston")},
		ScopeSpans: []*trace.ScopeSpans{{Scope: &common.InstrumentationScope{Name: "gentlepiston"}, Spans: b.list}},
	}}}, nil
}

func orNow(t *time.Time) time.Time {
	if t == nil {
		return time.Now()
	}
	return *t
}

// builder gathers the spans of a trace.
type builder struct {
	id   traced.Trace
	list []*trace.Span
}

func (b *builder) add(id, parent traced.Span, name string, from, to time.Time, as state.State,
	reason string) *trace.Span {
	span := &trace.Span{TraceId: b.id[:], SpanId: id[:], Name: name, Kind: trace.Span_SPAN_KIND_INTERNAL,
		StartTimeUnixNano: nanos(from), EndTimeUnixNano: max(nanos(from), nanos(to)), Status: &trace.Status{}}
	if parent != (traced.Span{}) {
		span.ParentSpanId = parent[:]
	}
	if as == state.Failed || as == state.TimedOut {
		span.Status = &trace.Status{Code: trace.Status_STATUS_CODE_ERROR, Message: reason}
	}
	b.list = append(b.list, span)
	return span
}

func nanos(t time.Time) uint64 { return uint64(max(0, t.UnixNano())) }

// attributes adds texts by their names; one that says nothing is left out.
func attributes(span *trace.Span, texts ...string) {
	span.Attributes = append(span.Attributes, pairs(texts...)...)
}

func pairs(texts ...string) (list []*common.KeyValue) {
	for i := 0; i+1 < len(texts); i += 2 {
		if texts[i+1] != "" {
			list = append(list, &common.KeyValue{Key: texts[i],
				Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: texts[i+1]}}})
		}
	}
	return list
}

// resultOf is a state in the words of the conventions (cicd.pipeline.result).
func resultOf(s state.State) string {
	switch s {
	case state.Passed:
		return "success"
	case state.Failed:
		return "failure"
	case state.TimedOut:
		return "timeout"
	case state.Cancelled:
		return "cancellation"
	case state.Skipped:
		return "skip"
	}
	return string(s)
}
