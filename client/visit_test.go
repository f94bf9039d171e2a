package client

import (
	"bytes"
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/talk"
)

// shellOf is a service whose shells do as told.
func shellOf(t *testing.T, do func(ctx context.Context, conn *websocket.Conn)) *Talk {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, err := websocket.Accept(w, r, nil)
		if err != nil {
			return
		}
		defer conn.CloseNow()
		conn.SetReadLimit(talk.MaxData + 1)
		do(r.Context(), conn)
	}))
	t.Cleanup(s.Close)
	shell, err := New(s.URL, "t").OpenShell(t.Context(), "p", 1, "core", api.NewShell{Kind: api.ShellShell})
	require.NoError(t, err)
	return shell
}

func send(ctx context.Context, conn *websocket.Conn, message []byte) {
	_ = conn.Write(ctx, websocket.MessageBinary, message)
}

func TestAVisitTypesAndShows(t *testing.T) {
	code := 4
	shell := shellOf(t, func(ctx context.Context, conn *websocket.Conn) {
		send(ctx, conn, talk.Of(talk.Word, []byte("soon")))
		send(ctx, conn, talk.Of(talk.Word, nil))
		for {
			_, message, err := conn.Read(ctx)
			if err != nil {
				return
			}
			switch kind, body, _ := talk.Read(message); kind {
			case talk.Data:
				send(ctx, conn, talk.Of(talk.Data, bytes.ToUpper(body)))
				send(ctx, conn, talk.OfTaken(len(body)))
			case talk.End:
				send(ctx, conn, talk.OfEnding(talk.Ending{Code: &code}))
			}
		}
	})
	var words []string
	var out bytes.Buffer
	text := strings.Repeat("make\n", talk.Window/5*3) // more than may be on its way
	ended, err := shell.Visit(t.Context(), Visit{In: strings.NewReader(text), Out: &out,
		Word: func(w string) { words = append(words, w) }})
	require.NoError(t, err)
	assert.Equal(t, 4, *ended.Code)
	assert.Equal(t, strings.ToUpper(text), out.String())
	assert.Equal(t, []string{"soon", ""}, words)
}

func TestNoMoreIsTypedThanIsTaken(t *testing.T) {
	got := make(chan int, 1)
	shell := shellOf(t, func(ctx context.Context, conn *websocket.Conn) {
		n := 0
		for {
			within, cancel := context.WithTimeout(ctx, 500*time.Millisecond)
			_, message, err := conn.Read(within)
			cancel()
			if err != nil {
				got <- n
				return
			}
			if kind, body, _ := talk.Read(message); kind == talk.Data {
				n += len(body)
			}
		}
	})
	_, err := shell.Visit(t.Context(), Visit{In: bytes.NewReader(make([]byte, 4*talk.Window)), Out: &bytes.Buffer{},
		Word: func(string) {}})
	assert.ErrorIs(t, err, ErrUnreachable, "it has gone without a word")
	assert.Equal(t, talk.Window, <-got)
}

func TestAVisitEndsWithStrangeMessages(t *testing.T) {
	for _, strange := range []string{"", "?", "t1"} {
		shell := shellOf(t, func(ctx context.Context, conn *websocket.Conn) {
			send(ctx, conn, []byte(strange))
			_, _, _ = conn.Read(ctx)
		})
		_, err := shell.Visit(t.Context(), Visit{Out: &bytes.Buffer{}, Word: func(string) {}})
		assert.ErrorIs(t, err, talk.ErrMessage, "%q", strange)
	}
	shell := shellOf(t, func(ctx context.Context, conn *websocket.Conn) {
		_ = conn.Write(ctx, websocket.MessageText, []byte("dtext"))
		_, _, _ = conn.Read(ctx)
	})
	_, err := shell.Visit(t.Context(), Visit{Out: &bytes.Buffer{}, Word: func(string) {}})
	assert.ErrorIs(t, err, talk.ErrMessage)
}

func TestARefusedShellSaysWhy(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusNotFound)
		_, _ = w.Write([]byte(`{"status":404,"detail":"no workspace stays"}`))
	}))
	defer s.Close()
	_, err := New(s.URL, "t").OpenShell(t.Context(), "p", 1, "core", api.NewShell{})
	assert.ErrorIs(t, err, ErrNotFound)
	assert.ErrorContains(t, err, "no workspace stays")
	s.Close()
	_, err = New(s.URL, "t").OpenShell(t.Context(), "p", 1, "core", api.NewShell{})
	assert.ErrorIs(t, err, ErrUnreachable)
}
