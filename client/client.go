// Package client is the Go client of the HTTP interface, used by the command line, runners and tests alike.
//
// Failures of the service come as *Problem. A call that cannot reach the service, or finds it without its database,
// is tried again for as long as Patience says, when trying again can do no harm.
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

const prefix = "/api/v1"

// Client talks to one service.
type Client struct {
	Address   string        // such as http://127.0.0.1:7460
	Token     string        // API token; used when there is no TokenFile
	TokenFile string        // file with the token, read for each call: a new one counts at once
	Patience  time.Duration // how long to keep trying when the service does not answer; 0: once
	HTTP      *http.Client
	cookies   []*http.Cookie // of a session, in a client that openSession gave
}

// New makes a client that tries each call once.
func New(address, token string) *Client {
	return &Client{Address: strings.TrimSuffix(address, "/"), Token: token, HTTP: &http.Client{Transport: &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 16, IdleConnTimeout: time.Minute,
		ResponseHeaderTimeout: 2 * time.Minute, ForceAttemptHTTP2: true}}}
}

// Believe makes the client believe further authorities, given as certificates in PEM (RFC 7468), besides the machine's.
func (c *Client) Believe(pem []byte) error {
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(pem) {
		return errors.New("it holds no certificate in PEM")
	}
	transport, ok := c.HTTP.Transport.(*http.Transport)
	if !ok {
		return errors.New("the client has a transport of its own")
	}
	transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return nil
}

// Problem is an error the service answered with (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		text += fmt.Sprintf("; %s: %s", e.Location, e.Message)
	}
	return text
}

// What a problem comes to, for whoever does something about it: errors.Is tells by these.
var (
	ErrRefused  = errors.New("the service refuses this, and will again") // of any kind
	ErrNotFound = errors.New("there is no such thing")
	ErrGone     = errors.New("it is over, or another's by now")
	ErrInvalid  = errors.New("it cannot be taken")
)

// Is implements what errors.Is asks for.
func (p *Problem) Is(target error) bool {
	switch target {
	case ErrRefused:
		return p.Status >= 400 && p.Status < 500 && p.Status != http.StatusTooManyRequests
	case ErrNotFound:
		return p.Status == http.StatusNotFound
	case ErrGone:
		return p.Status == http.StatusGone
	case ErrInvalid:
		return p.Status == http.StatusUnprocessableEntity
	}
	return false
}

// IsStatus reports whether an error is a problem with a status.
func IsStatus(err error, status int) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == status
}

// ErrUnreachable says that there is no service at the address.
var ErrUnreachable = errors.New("the service does not answer")

func (c *Client) request(ctx context.Context, method, path string, body io.Reader,
	contentType string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.Address+path, body)
	if err != nil {
		return nil, err
	}
	token, err := c.Bearer()
	if err != nil {
		return nil, err
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	for _, cookie := range c.cookies {
		req.AddCookie(cookie)
	}
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
	}
	res, err := c.HTTP.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%w at %s: is it running there? (%w)", ErrUnreachable, c.Address, err)
	}
	if res.StatusCode >= 300 {
		defer res.Body.Close()
		return nil, problemOf(res)
	}
	return res, nil
}

// Bearer is the token that calls carry.
func (c *Client) Bearer() (string, error) {
	if c.TokenFile == "" {
		return c.Token, nil
	}
	text, err := os.ReadFile(c.TokenFile)
	return strings.TrimSpace(string(text)), err
}

func problemOf(res *http.Response) error {
	p := &Problem{Status: res.StatusCode, Title: res.Status}
	text, _ := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	if json.Unmarshal(text, p) != nil || p.Status == 0 {
		p.Status, p.Detail = res.StatusCode, fmt.Sprintf("the service answered %s", res.Status)
	}
	return p
}

// Passing reports whether the same call may succeed a little later.
func Passing(err error) bool {
	return errors.Is(err, ErrUnreachable) || IsStatus(err, http.StatusServiceUnavailable) ||
		IsStatus(err, http.StatusBadGateway) || IsStatus(err, http.StatusGatewayTimeout) ||
		IsStatus(err, http.StatusInternalServerError) || IsStatus(err, http.StatusInsufficientStorage)
}

// retry calls do until it succeeds, fails for good, or patience ends.
func (c *Client) retry(ctx context.Context, do func() error) error {
	return c.retryWhile(ctx, Passing, do)
}

// retryWhile does so while an error may pass.
func (c *Client) retryWhile(ctx context.Context, passing func(error) bool, do func() error) error {
	end := time.Now().Add(c.Patience)
	for wait := 50 * time.Millisecond; ; wait = min(wait*2, 2*time.Second) {
		err := do()
		if err == nil || !passing(err) || time.Now().Add(wait).After(end) {
			return err
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
	}
}

// call sends in as JSON, when it is not nil, and reads the answer into out, when that is not nil.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	var text []byte
	kind := ""
	if in != nil {
		var err error
		if text, err = json.Marshal(in); err != nil {
			return err
		}
		kind = "application/json"
	}
	return c.retry(ctx, func() error {
		res, err := c.request(ctx, method, prefix+path, bytes.NewReader(text), kind)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if out == nil || res.StatusCode == http.StatusNoContent {
			_, err = io.Copy(io.Discard, res.Body)
			return err
		}
		if err := json.NewDecoder(res.Body).Decode(out); err != nil {
			return fmt.Errorf("%w: the answer cannot be read: %w", ErrUnreachable, err)
		}
		return nil
	})
}

func get[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	err = c.call(ctx, http.MethodGet, path, nil, &out)
	return out, err
}

func projectPath(project string) string { return "/projects/" + url.PathEscape(project) }

func runPath(project string, run record.RunNumber) string {
	return projectPath(project) + "/runs/" + strconv.FormatInt(int64(run), 10)
}

// Healthy tells whether the service is able to work.
func (c *Client) Healthy(ctx context.Context) error {
	return c.call(ctx, http.MethodGet, "/health", nil, nil)
}

// Ready tells whether the service may be sent requests now. It is asked once, whatever the client's patience.
func (c *Client) Ready(ctx context.Context) error {
	once := *c
	once.Patience = 0
	return once.call(ctx, http.MethodGet, "/health/ready", nil, nil)
}

// WhoAmI tells whose token it is, and what it may do where.
func (c *Client) WhoAmI(ctx context.Context) (api.Me, error) {
	return get[api.Me](ctx, c, "/session")
}

// pageQuery is how a page is asked for.
func pageQuery(p api.Page) string {
	v := url.Values{}
	for name, text := range map[string]string{"after": p.After, "contains": p.Contains} {
		if text != "" {
			v.Set(name, text)
		}
	}
	if p.Limit != 0 {
		v.Set("limit", strconv.Itoa(p.Limit))
	}
	return "?" + v.Encode()
}

// Projects lists projects by name.
func (c *Client) Projects(ctx context.Context, page api.Page) ([]api.Project, error) {
	return get[[]api.Project](ctx, c, "/projects"+pageQuery(page))
}

// Project finds a project.
func (c *Client) Project(ctx context.Context, name string) (api.Project, error) {
	return get[api.Project](ctx, c, projectPath(name))
}

// AddProject registers a repository.
func (c *Client) AddProject(ctx context.Context, n api.NewProject) (out api.Project, err error) {
	err = c.call(ctx, http.MethodPost, "/projects", n, &out)
	return out, err
}

// HookKey is the secret by which pushes are signed.
func (c *Client) HookKey(ctx context.Context, project string) (api.HookKey, error) {
	key, err := get[api.HookKey](ctx, c, projectPath(project)+"/hook-key")
	if strings.HasPrefix(key.Address, "/") {
		key.Address = c.Address + key.Address
	}
	return key, err
}

// RunFilter narrows a list of runs.
type RunFilter struct {
	Pipeline, Branch, State, Commit string
	Before                          record.RunNumber
	Limit                           int
	Tries                           bool // those of searches for the first bad change, too
}

// Runs lists runs, newest first.
func (c *Client) Runs(ctx context.Context, project string, f RunFilter) (api.RunPage, error) {
	q := url.Values{}
	for name, value := range map[string]string{"pipeline": f.Pipeline, "branch": f.Branch, "state": f.State,
		"commit": f.Commit} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if f.Before > 0 {
		q.Set("before", strconv.FormatInt(int64(f.Before), 10))
	}
	if f.Limit > 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	if f.Tries {
		q.Set("tries", "true")
	}
	return get[api.RunPage](ctx, c, projectPath(project)+"/runs?"+q.Encode())
}

// Run tells all that happened in a run.
func (c *Client) Run(ctx context.Context, project string, number record.RunNumber) (api.RunDetail, error) {
	return get[api.RunDetail](ctx, c, runPath(project, number))
}

// StartRun starts a pipeline by hand. It is tried once: trying again could start it twice.
func (c *Client) StartRun(ctx context.Context, project string, in api.StartRun) (out api.Run, err error) {
	once := *c
	once.Patience = 0
	err = once.call(ctx, http.MethodPost, projectPath(project)+"/runs", in, &out)
	return out, err
}

// StopRun stops a run.
func (c *Client) StopRun(ctx context.Context, project string, number record.RunNumber) error {
	return c.call(ctx, http.MethodPost, runPath(project, number)+"/stop", nil, nil)
}

// Restart starts a run again. It is tried once, like StartRun.
func (c *Client) Restart(ctx context.Context, project string, number record.RunNumber, in api.Restart) (out api.Run,
	err error) {
	once := *c
	once.Patience = 0
	err = once.call(ctx, http.MethodPost, runPath(project, number)+"/again", in, &out)
	return out, err
}

// Since tells what has changed since a run's pipeline last passed.
func (c *Client) Since(ctx context.Context, project string, number record.RunNumber) (api.Since, error) {
	return get[api.Since](ctx, c, runPath(project, number)+"/since")
}

// QueueFilter narrows the list of jobs that wait.
type QueueFilter struct {
	Project string
	Run     record.RunNumber
	After   int
	Limit   int
}

// Queue lists jobs that wait.
func (c *Client) Queue(ctx context.Context, f QueueFilter) (api.QueuePage, error) {
	return get[api.QueuePage](ctx, c,
		fmt.Sprintf("/queue?project=%s&run=%d&after=%d&limit=%d", url.QueryEscape(f.Project), f.Run, f.After,
			max(f.Limit, 1)))
}

// Hold keeps a project's jobs from being handed out; an empty reason lets them go again.
func (c *Client) Hold(ctx context.Context, project, reason string) (out api.Project, err error) {
	err = c.call(ctx, http.MethodPut, projectPath(project)+"/hold", api.Hold{Reason: reason}, &out)
	return out, err
}

// LimitProject bounds how many jobs of a project are at work at once.
func (c *Client) LimitProject(ctx context.Context, project string, atOnce int) (out api.Project, err error) {
	err = c.call(ctx, http.MethodPut, projectPath(project)+"/limit", api.ProjectLimit{AtOnce: atOnce}, &out)
	return out, err
}

// AllowHostNetwork says whether a project's steps may be given a machine's own network.
func (c *Client) AllowHostNetwork(ctx context.Context, project string, may bool) (out api.Project, err error) {
	err = c.call(ctx, http.MethodPut, projectPath(project)+"/network", api.ProjectNetwork{Host: may}, &out)
	return out, err
}

// Schedules lists when a project's pipelines are due.
func (c *Client) Schedules(ctx context.Context, project string) ([]api.Schedule, error) {
	return get[[]api.Schedule](ctx, c, projectPath(project)+"/schedules")
}

// Pipelines lists a project's pipelines at a branch, tag or commit.
func (c *Client) Pipelines(ctx context.Context, project, ref string) (api.Pipelines, error) {
	return get[api.Pipelines](ctx, c, projectPath(project)+"/pipelines?ref="+url.QueryEscape(ref))
}

// Check looks for mistakes in a pipeline file.
func (c *Client) Check(ctx context.Context, project string, in api.CheckRequest) (out api.PipelineNote, err error) {
	err = c.call(ctx, http.MethodPost, projectPath(project)+"/check", in, &out)
	return out, err
}

// Knowledge is what a check on this machine may know of the service.
func (c *Client) Knowledge(ctx context.Context, project string) (api.Knowledge, error) {
	return get[api.Knowledge](ctx, c, projectPath(project)+"/knowledge")
}

// LogQuery says which part of a log to read.
type LogQuery struct {
	Attempt    int
	From, Tail int64
	Limit      int
}

// Log reads a part of a job's log.
func (c *Client) Log(ctx context.Context, project string, run record.RunNumber, job string, q LogQuery) (api.LogPart,
	error) {
	return get[api.LogPart](ctx, c,
		fmt.Sprintf("%s/jobs/%s/log?attempt=%d&from=%d&tail=%d&limit=%d", runPath(project, run),
			url.PathEscape(job), q.Attempt, q.From, q.Tail, max(q.Limit, 1)))
}

// Artifact downloads an artifact; the caller closes it.
func (c *Client) Artifact(ctx context.Context, project string, run record.RunNumber,
	id record.ArtifactID) (io.ReadCloser, error) {
	res, err := c.request(ctx, http.MethodGet, fmt.Sprintf("%s%s/artifacts/%d", prefix, runPath(project, run), id), nil,
		"")
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}

// SetBot says who commits what a project's runs land, and how that is pushed.
func (c *Client) SetBot(ctx context.Context, project string, in api.Bot) (out api.Project, err error) {
	err = c.call(ctx, http.MethodPut, projectPath(project)+"/bot", in, &out)
	return out, err
}

// Lendings lists the projects whose jobs may read a project's source.
func (c *Client) Lendings(ctx context.Context, project string) (api.Lendings, error) {
	return get[api.Lendings](ctx, c, projectPath(project)+"/lendings")
}

// Lend says which projects' jobs may read a project's source.
func (c *Client) Lend(ctx context.Context, project string, in api.Lendings) (out api.Lendings, err error) {
	err = c.call(ctx, http.MethodPut, projectPath(project)+"/lendings", in, &out)
	return out, err
}

// HoldRunner lets a runner finish what it has and be handed no more; an empty reason resumes it.
func (c *Client) HoldRunner(ctx context.Context, name, reason string) (out api.Runner, err error) {
	err = c.call(ctx, http.MethodPut, "/runners/"+url.PathEscape(name)+"/hold", api.Hold{Reason: reason}, &out)
	return out, err
}

// ForgetRunner removes a runner from the lists that is away.
func (c *Client) ForgetRunner(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/runners/"+url.PathEscape(name), nil, nil)
}

// Runners lists runners by name.
func (c *Client) Runners(ctx context.Context, page api.Page) ([]api.Runner, error) {
	return get[[]api.Runner](ctx, c, "/runners"+pageQuery(page))
}
