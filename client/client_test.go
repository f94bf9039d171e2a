package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
)

func TestProblemsComeAsTheServiceSaidThem(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer the token", r.Header.Get("Authorization"))
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(422)
		fmt.Fprint(w, `{"status":422,"title":"Unprocessable Entity","detail":"validation failed","errors":[{"message":"too short","location":"body.name"}]}`)
	}))
	defer s.Close()
	_, err := New(s.URL+"/", "the token").Project(t.Context(), "a/b")
	assert.True(t, IsStatus(err, 422))
	assert.EqualError(t, err, "validation failed; body.name: too short")
}

func TestWhatAProblemComesTo(t *testing.T) {
	kinds := map[string]error{"refused": ErrRefused, "not found": ErrNotFound, "gone": ErrGone, "invalid": ErrInvalid}
	for status, want := range map[int][]string{
		404: {"not found", "refused"}, 410: {"gone", "refused"}, 422: {"invalid", "refused"}, 403: {"refused"}, 429: nil,
		500: nil, 503: nil,
	} {
		var is []string
		for name, kind := range kinds {
			if errors.Is(fmt.Errorf("while asking: %w", &Problem{Status: status}), kind) {
				is = append(is, name)
			}
		}
		assert.ElementsMatch(t, want, is, "%d", status)
	}
}

func TestPatience(t *testing.T) {
	var calls atomic.Int32
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if calls.Add(1) < 3 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		fmt.Fprint(w, `{"name":"p"}`)
	}))
	defer s.Close()
	c := New(s.URL, "t")
	_, err := c.Project(t.Context(), "p")
	assert.True(t, IsStatus(err, 503), "without patience once")
	c.Patience = 5 * time.Second
	p, err := c.Project(t.Context(), "p")
	require.NoError(t, err)
	assert.Equal(t, "p", p.Name)

	for _, status := range []int{http.StatusBadGateway, http.StatusGatewayTimeout} { // what a proxy says meanwhile
		var asked atomic.Int32
		proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			if asked.Add(1) == 1 {
				w.WriteHeader(status)
				return
			}
			fmt.Fprint(w, `{"name":"p"}`)
		}))
		through := New(proxy.URL, "t")
		through.Patience = 5 * time.Second
		_, err = through.Project(t.Context(), "p")
		assert.NoError(t, err, status)
		proxy.Close()
	}

	calls.Store(0)
	_, err = c.StartRun(t.Context(), "p", api.StartRun{Pipeline: "x", Ref: "main"})
	assert.True(t, IsStatus(err, 503), "what must not happen twice is tried once, whatever the patience")
	s.Close()
	c.Patience = 0
	_, err = c.Project(t.Context(), "p")
	assert.ErrorIs(t, err, ErrUnreachable)
}

func TestTheStreamComesBackWhereItWas(t *testing.T) {
	var positions []string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		positions = append(positions, r.Header.Get("Last-Event-ID"))
		n := len(positions)
		fmt.Fprintf(w, ": a comment\n\nevent: change\nid: %d\ndata: {\"project\":\"p\",\"run\":%d,\"state\":\"running\"}\n\n", n, n)
		fmt.Fprintf(w, "event: log\nid: %d;main.1:%d\ndata: {\"job\":\"main\",\"attempt\":1,\"lines\":[{\"n\":%d,\"t\":0,\"s\":0,\"x\":\"a: b\"}]}\n\n", n, n, n)
		fmt.Fprintf(w, "event: change\nid: half") // and the connection breaks here
	}))
	defer s.Close()
	enough := errors.New("enough")
	seen := 0
	err := New(s.URL, "t").Stream(t.Context(), Topic{Project: "p", Run: 1, Log: "*"}, "0;main.1:7", func(e Event) error {
		seen++
		if e.Log != nil {
			assert.Equal(t, "a: b", e.Log.Lines[0].Text)
		}
		if seen == 6 {
			return enough
		}
		return nil
	})
	assert.ErrorIs(t, err, enough)
	assert.Equal(t, []string{"0;main.1:7", "1;main.1:1", "2;main.1:2"}, positions, "half an event is no position")

	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	err = New(s.URL, "t").Stream(ctx, Topic{}, "", func(Event) error { return nil })
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}

func TestTheStreamEndsWhenItIsRefused(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotFound) }))
	defer s.Close()
	err := New(s.URL, "t").Stream(t.Context(), Topic{Project: "gone"}, "", func(Event) error { return nil })
	assert.True(t, IsStatus(err, http.StatusNotFound))
}
