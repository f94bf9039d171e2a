package client

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/pointer"
	"gentlepiston.example/piston/core/record"
)

func attemptPath(attempt record.AttemptID) string { return fmt.Sprintf("/runner/attempts/%d", attempt) }

// Claim asks for work.
func (c *Client) Claim(ctx context.Context, in api.ClaimRequest) (out api.Claimed, err error) {
	once := *c
	once.Patience = 0 // the caller asks again anyway
	err = once.call(ctx, http.MethodPost, "/runner/claim", in, &out)
	return out, err
}

// Beat says that an attempt is still at work.
func (c *Client) Beat(ctx context.Context, attempt record.AttemptID) (out api.Beat, err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/beat", nil, &out)
	return out, err
}

// Prepared says that checkout and caches are there.
func (c *Client) Prepared(ctx context.Context, attempt record.AttemptID, in api.Prepared) error {
	return c.call(ctx, http.MethodPost, attemptPath(attempt)+"/prepared", in, nil)
}

// ReportSteps says that steps began or ended, in this order.
func (c *Client) ReportSteps(ctx context.Context, attempt record.AttemptID, steps []api.StepReport) error {
	return c.call(ctx, http.MethodPost, attemptPath(attempt)+"/steps", steps, nil)
}

// Runner tells of a runner and what it did.
func (c *Client) Runner(ctx context.Context, name string, f api.DidFilter) (out api.RunnerDetail, err error) {
	q := query{}
	if !f.Before.IsZero() {
		q["before"] = f.Before.UTC().Format(time.RFC3339Nano)
	}
	err = c.call(ctx, http.MethodGet, "/runners/"+url.PathEscape(name)+q.listed(f.Limit), nil, &out)
	return out, err
}

// Finish ends an attempt.
func (c *Client) Finish(ctx context.Context, attempt record.AttemptID, in api.Finish) (out api.Finished, err error) {
	err = c.call(ctx, http.MethodPost, attemptPath(attempt)+"/finish", in, &out)
	return out, err
}

// HandBack gives an attempt back, since the runner is being ended. It is tried for as long as ctx lasts.
func (c *Client) HandBack(ctx context.Context, attempt record.AttemptID, in api.HandBack) error {
	return c.call(ctx, http.MethodPost, attemptPath(attempt)+"/hand-back", in, nil)
}

// AppendLog sends log lines in their written form.
func (c *Client) AppendLog(ctx context.Context, attempt record.AttemptID, first int64, text []byte) error {
	path := fmt.Sprintf("%s%s/log?first=%d", prefix, attemptPath(attempt), first)
	return c.retry(ctx, func() error {
		res, err := c.request(ctx, http.MethodPost, path, bytes.NewReader(text), "text/plain")
		if err == nil {
			res.Body.Close()
		}
		return err
	})
}

// Large reads a file that a repository keeps beside itself, of a source that the service serves at a path; the caller
// closes it. A 404 Problem when its remote has none such.
func (c *Client) Large(ctx context.Context, source string, p pointer.Pointer) (content io.ReadCloser, err error) {
	err = c.retry(ctx, func() error {
		res, err := c.request(ctx, http.MethodGet, fmt.Sprintf("%s/large/%s?size=%d", source, p.ID, p.Size), nil, "")
		if err == nil {
			content = res.Body
		}
		return err
	})
	return content, err
}

// Pack reads one commit with all its files, as Git packs them (gitformat-pack(5)), from where the service serves a
// source, without files that other commits have; ErrNotFound when it is not there.
func (c *Client) Pack(ctx context.Context, source, commit string, had ...string) (content io.ReadCloser, err error) {
	path := source + "/pack/" + commit
	if len(had) > 0 {
		path += "?" + url.Values{"had": had}.Encode()
	}
	err = c.retry(ctx, func() error {
		res, err := c.request(ctx, http.MethodGet, path, nil, "")
		if err == nil {
			content = res.Body
		}
		return err
	})
	return content, err
}

// KeepArtifact sends a file, opened anew for each try.
func (c *Client) KeepArtifact(ctx context.Context, attempt record.AttemptID, name, file, sha256 string,
	open func() (io.ReadCloser, error)) error {
	q := url.Values{"name": {name}, "path": {file}, "sha256": {sha256}}
	path := fmt.Sprintf("%s%s/artifacts?%s", prefix, attemptPath(attempt), q.Encode())
	return c.retry(ctx, func() error {
		content, err := open()
		if err != nil {
			return err
		}
		defer content.Close()
		res, err := c.request(ctx, http.MethodPut, path, content, "application/octet-stream")
		if err != nil {
			return err
		}
		return res.Body.Close()
	})
}

// HandOver sends packed files for later jobs of the run.
func (c *Client) HandOver(ctx context.Context, attempt record.AttemptID, name string, content io.Reader) error {
	res, err := c.request(ctx, http.MethodPut,
		fmt.Sprintf("%s%s/handovers/%s", prefix, attemptPath(attempt), url.PathEscape(name)), content, "application/zstd")
	if err != nil {
		return err
	}
	return res.Body.Close()
}

// Handover reads what an earlier job hands on; the caller closes it.
func (c *Client) Handover(ctx context.Context, attempt record.AttemptID, job, name string) (io.ReadCloser, error) {
	var res *http.Response
	err := c.retry(ctx, func() (err error) {
		res, err = c.request(ctx, http.MethodGet,
			fmt.Sprintf("%s%s/handovers/%s/%s", prefix, attemptPath(attempt), url.PathEscape(job), url.PathEscape(name)), nil,
			"")
		return err
	})
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}
