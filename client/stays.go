package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/coder/websocket"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/talk"
)

// Stays lists workspaces that stay after their job.
func (c *Client) Stays(ctx context.Context, f api.StayFilter) (list []api.Stay, err error) {
	q := query{"runner": f.Runner, "project": f.Project, "over": f.Over}
	err = c.call(ctx, http.MethodGet, "/stays"+q.listed(f.Limit), nil, &list)
	return list, err
}

func jobPath(project string, run record.RunNumber, job string) string {
	return runPath(project, run) + "/jobs/" + url.PathEscape(job)
}

// AskStay has a job's workspace stay when it has ended, or, when it stays already, for so long from now on.
func (c *Client) AskStay(ctx context.Context, project string, run record.RunNumber, job string, in api.NewStay) (
	out api.Stay, err error) {
	err = c.call(ctx, http.MethodPut, jobPath(project, run, job)+"/stay", in, &out)
	return out, err
}

// EndStay lets one go.
func (c *Client) EndStay(ctx context.Context, project string, run record.RunNumber, job string) error {
	return c.call(ctx, http.MethodDelete, jobPath(project, run, job)+"/stay", nil, nil)
}

// Shells lists who looked around in a project's workspaces, the latest first.
func (c *Client) Shells(ctx context.Context, project string, f api.ShellFilter) (list []api.Shell, err error) {
	q := query{"run": f.Run, "before": f.Before}
	err = c.call(ctx, http.MethodGet, projectPath(project)+"/shells"+q.listed(f.Limit), nil, &list)
	return list, err
}

// GrantShell lets a shell have the secrets it asks for.
func (c *Client) GrantShell(ctx context.Context, project string, id record.ShellID) error {
	return c.call(ctx, http.MethodPost, fmt.Sprintf("%s/shells/%d/grant", projectPath(project), id), nil, nil)
}

// Recording reads what was shown in a shell, as asciicast v2.
func (c *Client) Recording(ctx context.Context, project string, id record.ShellID) (io.ReadCloser, error) {
	res, err := c.request(ctx, http.MethodGet, fmt.Sprintf("%s%s/shells/%d/recording", prefix, projectPath(project), id),
		nil, "")
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}

// BeatStay says that a workspace stays, and hears what is wanted of it.
func (c *Client) BeatStay(ctx context.Context, attempt record.AttemptID, in api.StayBeat) (out api.StayNews,
	err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/stay", in, &out)
	return out, err
}

// OpenShell opens a way into a workspace that stays.
func (c *Client) OpenShell(ctx context.Context, project string, run record.RunNumber, job string, in api.NewShell) (
	*Talk, error) {
	q := url.Values{"kind": {string(in.Kind)}, "terminal": {strconv.FormatBool(in.Terminal)},
		"cols": {strconv.Itoa(in.Cols)}, "rows": {strconv.Itoa(in.Rows)}, "command": {in.Command}, "path": {in.Path},
		"secret": in.Secrets}
	return c.talk(ctx, jobPath(project, run, job)+"/shell?"+q.Encode())
}

// ServeShell meets whoever has asked for a shell.
func (c *Client) ServeShell(ctx context.Context, attempt record.AttemptID, id record.ShellID) (*Talk, error) {
	return c.talk(ctx, fmt.Sprintf("%s/shells/%d", attemptPath(attempt), id))
}

// Talk is a connection of messages, as core/talk has them.
type Talk struct{ conn *websocket.Conn }

func (c *Client) talk(ctx context.Context, path string) (*Talk, error) {
	header := http.Header{}
	token, err := c.Bearer()
	if err != nil {
		return nil, err
	}
	if token != "" {
		header.Set("Authorization", "Bearer "+token)
	}
	for _, cookie := range c.cookies {
		header.Add("Cookie", cookie.String())
	}
	conn, res, err := websocket.Dial(ctx, c.Address+prefix+path, &websocket.DialOptions{HTTPClient: c.HTTP,
		HTTPHeader: header, CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		if res != nil && res.StatusCode >= http.StatusMultipleChoices {
			defer res.Body.Close()
			return nil, problemOf(res)
		}
		return nil, fmt.Errorf("%w at %s: is it running there? (%w)", ErrUnreachable, c.Address, err)
	}
	conn.SetReadLimit(talk.MaxData + 1)
	return &Talk{conn}, nil
}

// silence is after how long without a word the service is gone: it says each ten seconds that it is there.
const silence = 45 * time.Second

// Read reads a message.
func (t *Talk) Read(ctx context.Context) (talk.Kind, []byte, error) {
	ctx, cancel := context.WithTimeout(ctx, silence)
	defer cancel()
	kind, message, err := t.conn.Read(ctx)
	if err != nil {
		return 0, nil, err
	}
	if kind != websocket.MessageBinary {
		return 0, nil, talk.ErrMessage
	}
	return talk.Read(message)
}

// Write writes one.
func (t *Talk) Write(ctx context.Context, message []byte) error {
	return t.conn.Write(ctx, websocket.MessageBinary, message)
}

// Close ends it.
func (t *Talk) Close() error {
	err := t.conn.CloseNow()
	if websocket.CloseStatus(err) >= 0 || errors.Is(err, io.EOF) {
		return nil
	}
	return err
}
