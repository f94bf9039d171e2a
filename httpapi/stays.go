package httpapi

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/coder/websocket"
	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/talk"
	"gentlepiston.example/piston/service/ground"
)

// JobPath names a job of a run; exported, since only then can other inputs embed it.
type JobPath struct {
	RunPath
	Job string `path:"job" maxLength:"400"`
}

// stays registers workspaces that stay after their job, and the ways into them. A shell goes over a WebSocket
// (RFC 6455), in binary messages as core/talk has them.
func stays(sv *server, a huma.API, r chi.Router) {
	const job = "/projects/{project}/runs/{number}/jobs/{job}"
	operation(a, http.MethodGet, "/stays", "list-stays", "Workspaces that stay after their job, for a look around",
		func(ctx context.Context, in *struct{ api.StayFilter }) ([]api.Stay, error) {
			return sv.s.Stays.List(ctx, in.StayFilter)
		})
	operation(a, http.MethodPut, job+"/stay", "ask-stay",
		"Have a job's workspace stay when it has ended, or stay for longer", func(ctx context.Context, in *struct {
			JobPath
			Body api.NewStay
		}) (api.Stay, error) {
			return sv.s.Stays.Ask(ctx, in.Project, in.Number, in.Job, in.Body)
		})
	command(a, http.MethodDelete, job+"/stay", "end-stay", "Let it go",
		func(ctx context.Context, in *JobPath) error {
			return sv.s.Stays.LetGo(ctx, in.Project, in.Number, in.Job)
		})
	operation(a, http.MethodGet, "/projects/{project}/shells", "list-shells", "Who looked around, latest first",
		func(ctx context.Context, in *struct {
			ProjectPath
			api.ShellFilter
		}) ([]api.Shell, error) {
			return sv.s.Stays.Shells(ctx, in.Project, in.ShellFilter)
		})
	command(a, http.MethodPost, "/projects/{project}/shells/{id}/grant", "grant-shell",
		"Let a shell have the secrets it asks for", func(ctx context.Context, in *struct {
			ProjectPath
			ID record.ShellID `path:"id" minimum:"1"`
		}) error {
			return sv.s.Stays.Grant(ctx, in.Project, in.ID)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/stay", "stay",
		"A workspace stays: for how long, and for whom?", func(ctx context.Context, in *struct {
			AttemptPath
			Body api.StayBeat
		}) (api.StayNews, error) {
			return sv.s.Stays.Beat(ctx, in.Attempt, in.Body)
		})
	r.Get(Prefix+job+"/shell", shells{sv}.openShell)
	r.Get(Prefix+"/runner/attempts/{attempt}/shells/{id}", shells{sv}.serveShell)
	r.Get(Prefix+"/projects/{project}/shells/{id}/recording", shells{sv}.sendRecording)
}

// shells are the connections of shells.
type shells struct{ *server }

func (sv shells) sendRecording(w http.ResponseWriter, r *http.Request) {
	content, err := sv.s.Stays.Recording(r.Context(), chi.URLParam(r, "project"), number[record.ShellID](r, "id"))
	send(w, r, content, err)
}

// openShell lets a person in.
func (sv shells) openShell(w http.ResponseWriter, r *http.Request) {
	q, project := r.URL.Query(), chi.URLParam(r, "project")
	in := api.NewShell{Kind: api.ShellKind(q.Get("kind")), Terminal: q.Get("terminal") == "true",
		Command: q.Get("command"), Path: q.Get("path"), Secrets: q["secret"]}
	in.Cols, _ = strconv.Atoi(q.Get("cols"))
	in.Rows, _ = strconv.Atoi(q.Get("rows"))
	ctx := r.Context()
	id, err := sv.s.Stays.Enter(ctx, project, number[record.RunNumber](r, "number"), chi.URLParam(r, "job"), in)
	if err != nil {
		fail(w, r, err)
		return
	}
	address := who(ctx).Address
	came := sv.talk(w, r, func(ctx context.Context) error {
		w, err := sv.find(r, address)
		if err != nil {
			return err
		}
		role, err := sv.s.RoleIn(ctx, w, project)
		if err == nil && !role.Covers(access.Builder) {
			err = ground.Refuse("that needs a builder")
		}
		return err
	}, func(ctx context.Context, l *line) error { return sv.s.Stays.Join(ctx, project, id, l) })
	if came {
		return
	}
	if err := sv.s.Stays.Leave(ctx, id); err != nil {
		tell(ctx, err)
	}
}

// serveShell meets the runner.
func (sv shells) serveShell(w http.ResponseWriter, r *http.Request) {
	sv.talk(w, r, func(context.Context) error { return nil }, func(ctx context.Context, l *line) error {
		return sv.s.Stays.Serve(ctx, attemptOf(r), number[record.ShellID](r, "id"), l)
	})
}

// stillEvery is how often it is asked whether somebody still may.
const stillEvery = 10 * time.Second

// talk makes a connection one of messages, for as long as whoever asks still may; false when it can be none.
func (sv shells) talk(w http.ResponseWriter, r *http.Request, still func(context.Context) error,
	do func(ctx context.Context, l *line) error) (came bool) {
	// Of a browser only pages of this address may come in: their sessions are sent whoever's page it is.
	conn, err := websocket.Accept(w, r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return false // it has been answered
	}
	defer conn.CloseNow()
	conn.SetReadLimit(talk.MaxData + 1)
	ctx, cancel := context.WithCancel(r.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(stillEvery):
				if still(ctx) != nil {
					conn.CloseNow()
					return
				}
			}
		}
	}()
	err = do(ctx, &line{conn})
	cancel()
	<-ended
	if err != nil {
		tell(r.Context(), err)
	}
	_ = conn.Close(websocket.StatusNormalClosure, "")
	return true
}

// line is a WebSocket whose messages are binary.
type line struct{ conn *websocket.Conn }

// writeWithin is how long one message may take to be written: who reads nothing for so long is gone.
const writeWithin = 30 * time.Second

// Read implements stays.Line.
func (l *line) Read(ctx context.Context) ([]byte, error) {
	kind, message, err := l.conn.Read(ctx)
	if err == nil && kind != websocket.MessageBinary {
		return nil, talk.ErrMessage
	}
	return message, err
}

// Write implements stays.Line.
func (l *line) Write(ctx context.Context, message []byte) error {
	ctx, cancel := context.WithTimeout(ctx, writeWithin)
	defer cancel()
	return l.conn.Write(ctx, websocket.MessageBinary, message)
}
