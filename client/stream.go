package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// Topic says what to be told of. Log is a job of the run, or "*" for all of them, or "" for none.
type Topic struct {
	Project string
	Run     record.RunNumber
	Log     string
}

// Event is one event of the stream; one of its parts is set, none for the hello that begins every connection.
type Event struct {
	ID     string // where to resume
	Change *api.Change
	Log    *api.LogBatch
}

// Stream hands events to take until ctx ends, take fails, or the service refuses for good. When the connection
// breaks it comes back and resumes where it was, without a lost or doubled event. from is an Event's ID, or "".
func (c *Client) Stream(ctx context.Context, t Topic, from string, take func(Event) error) error {
	q := url.Values{}
	if t.Project != "" {
		q.Set("project", t.Project)
	}
	if t.Run != 0 {
		q.Set("run", fmt.Sprint(t.Run))
	}
	if t.Log != "" {
		q.Set("log", t.Log)
	}
	last := from
	for wait := 50 * time.Millisecond; ; wait = min(wait*2, 2*time.Second) {
		begun := false
		err := c.streamOnce(ctx, q.Encode(), last, func(e Event) error {
			begun = true
			if err := take(e); err != nil {
				return stopped{err}
			}
			last = e.ID
			return nil
		})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if s, ok := err.(stopped); ok {
			return s.error
		}
		if err != nil && !Passing(err) {
			return err
		}
		if begun {
			wait = 50 * time.Millisecond
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// stopped carries an error of the receiver past the reconnecting.
type stopped struct{ error }

func (c *Client) streamOnce(ctx context.Context, query, last string, take func(Event) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Address+prefix+"/stream?"+query, nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.Token)
	if last != "" {
		req.Header.Set("Last-Event-ID", last)
	}
	res, err := c.HTTP.Do(req)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return problemOf(res)
	}
	lines := bufio.NewReaderSize(res.Body, 64<<10)
	var name, id string
	var data []byte
	for {
		line, err := lines.ReadString('\n')
		if err != nil {
			return nil // broken or ended: come back
		}
		line = strings.TrimSuffix(line, "\n")
		field, value, _ := strings.Cut(line, ": ")
		switch {
		case line == "":
			if name != "" {
				e, err := decode(name, id, data)
				if err != nil {
					return err
				}
				if err := take(e); err != nil {
					return err
				}
			}
			name, data = "", nil
		case field == "event":
			name = value
		case field == "id":
			id = value
		case field == "data":
			data = []byte(value)
		}
	}
}

func decode(name, id string, data []byte) (Event, error) {
	e := Event{ID: id}
	var err error
	switch name {
	case "change":
		e.Change = new(api.Change)
		err = json.Unmarshal(data, e.Change)
	case "log":
		e.Log = new(api.LogBatch)
		err = json.Unmarshal(data, e.Log)
	}
	return e, err
}
