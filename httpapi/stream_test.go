package httpapi

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
)

func TestEventsAreWrittenAsTheStandardSays(t *testing.T) {
	rec := httptest.NewRecorder()
	l := &eventWriter{w: rec, rc: http.NewResponseController(rec)}
	require.NoError(t, l.Hello(7, nil))
	require.NoError(t, l.Change(8, nil, api.Change{Project: "p", Run: 3, State: "running"}))
	require.NoError(t, l.Lines(8, map[string]int64{"core.1": 2}, api.LogBatch{Job: "core", Attempt: 1,
		Lines: []logline.Line{{N: 2, Text: "data: not an event\r\n\nevent: evil"}}}))
	require.NoError(t, l.Idle())
	assert.Equal(t, "text/event-stream", rec.Header().Get("Content-Type"))
	assert.Equal(t, "no-store", rec.Header().Get("Cache-Control"))
	events := strings.Split(strings.TrimSuffix(rec.Body.String(), "\n\n"), "\n\n")
	require.Len(t, events, 4, "a line of a log cannot make an event of its own")
	assert.Equal(t, "event: hello\nid: 7\ndata: {}", events[0])
	assert.Equal(t, `event: change`+"\nid: 8\n"+`data: {"project":"p","run":3,"state":"running"}`, events[1])
	assert.True(t, strings.HasPrefix(events[2], "event: log\nid: 8;core.1:2\ndata: {"))
	assert.Equal(t, ": still here", events[3])
	assert.True(t, rec.Flushed)
}

// brokenWriter is a reader that has gone away.
type brokenWriter struct{ http.ResponseWriter }

func (brokenWriter) Write([]byte) (int, error) { return 0, errors.New("gone") }

func TestAReaderThatHasGoneEndsItsStream(t *testing.T) {
	w := brokenWriter{httptest.NewRecorder()}
	l := &eventWriter{w: w, rc: http.NewResponseController(w)}
	assert.Error(t, l.Hello(1, nil))
	assert.True(t, l.begun, "no problem document is written into a broken stream")
}

func TestPathParams(t *testing.T) {
	assert.Equal(t, []string{"project", "number"}, pathParams("/projects/{project}/runs/{number}/log.txt"))
	assert.Empty(t, pathParams("/health"))
}
