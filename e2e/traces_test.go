package e2e

import (
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	trace "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"
)

// collector is a program that takes traces, and is busy at first.
type collector struct {
	*httptest.Server
	mu    sync.Mutex
	busy  int
	asked int
	spans []*trace.Span
	wrong []string
}

func collect(t *testing.T, busy int) *collector {
	t.Helper()
	c := &collector{busy: busy}
	c.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(r.Body)
		c.mu.Lock()
		defer c.mu.Unlock()
		var of trace.TracesData
		switch {
		case err != nil, proto.Unmarshal(text, &of) != nil, r.Header.Get("Content-Type") != "application/x-protobuf":
			c.wrong = append(c.wrong, r.Header.Get("Content-Type"))
		case c.asked < c.busy:
			c.asked++
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		for _, res := range of.ResourceSpans {
			for _, scope := range res.ScopeSpans {
				c.spans = append(c.spans, scope.Spans...)
			}
		}
	}))
	t.Cleanup(c.Close)
	return c
}

func (c *collector) told() []*trace.Span {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]*trace.Span(nil), c.spans...)
}

func TestRunsAreToldAsTracesAndStepsKnowTheirs(t *testing.T) {
	c := collect(t, 1)
	s := serve(t, "--traces", c.URL+"/v1/traces")
	r := s.project(t, "traced", map[string]string{"piston/trunk.toml": `[trigger.push]
[[job.main.step]]
name = "first"
script = "echo of $TRACEPARENT."
[[job.main.step]]
name = "second"
script = "exit 3"
[[job.main.step]]
name = "third"
script = "echo $TRACEPARENT"
`})
	r.push()
	d := r.run(1, true)
	require.Len(t, d.Jobs, 1)
	require.Eventually(t, func() bool { return len(c.told()) > 0 }, 30*time.Second, 20*time.Millisecond)
	spans, names := c.told(), map[string]*trace.Span{}
	for _, one := range spans {
		names[one.Name] = one
		assert.Equal(t, spans[0].TraceId, one.TraceId)
		assert.GreaterOrEqual(t, one.EndTimeUnixNano, one.StartTimeUnixNano)
	}
	require.Len(t, names, 5, "the run, its job, the preparation, two steps: %v", names)
	assert.Empty(t, names["trunk"].ParentSpanId)
	assert.Equal(t, names["trunk"].SpanId, names["main"].ParentSpanId)
	for _, name := range []string{"preparation", "first", "second"} {
		assert.Equal(t, names["main"].SpanId, names[name].ParentSpanId, name)
		assert.LessOrEqual(t, names["main"].StartTimeUnixNano, names[name].StartTimeUnixNano, name)
	}
	assert.Equal(t, trace.Status_STATUS_CODE_ERROR, names["second"].Status.Code)
	assert.Equal(t, trace.Status_STATUS_CODE_ERROR, names["trunk"].Status.Code)
	assert.NotEqual(t, trace.Status_STATUS_CODE_ERROR, names["first"].Status.Code)
	handed := regexp.MustCompile(`of 00-([0-9a-f]{32})-([0-9a-f]{16})-01\.`).FindStringSubmatch(r.logText(1, "main"))
	require.Len(t, handed, 3)
	assert.Equal(t, hex.EncodeToString(names["first"].TraceId), handed[1])
	assert.Equal(t, hex.EncodeToString(names["first"].SpanId), handed[2])

	out, code := s.piston(t, "", "again", "traced", "1")
	require.Zero(t, code, out)
	require.Eventually(t, func() bool { return len(c.told()) >= 10 }, 30*time.Second, 20*time.Millisecond)
	again := c.told()[5:]
	assert.NotEqual(t, spans[0].TraceId, again[0].TraceId, "another time is another trace")
	assert.Len(t, again, 5, "of what it did then")
	assert.Empty(t, c.wrong)
}
