// Package traces is the room of traces: what a run did is told to a collector as spans (OpenTelemetry Protocol, OTLP
// over HTTP in Protocol Buffers), once the run is over. Steps were handed what their own spans belong to.
package traces

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"google.golang.org/protobuf/proto"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/world"
)

// Traces is the room.
type Traces struct {
	*ground.Ground
	to     *url.URL // nil for nowhere
	public string
}

// New makes it. to is the collector's address for traces, such as http://127.0.0.1:4318/v1/traces; "" for none. public
// is where people reach the console; "" when that is not known.
func New(g *ground.Ground, to, public string) (*Traces, error) {
	s := &Traces{Ground: g, public: public}
	if to != "" {
		at, err := world.Address(to, "a collector of traces")
		if err != nil {
			return nil, err
		}
		s.to = at
	}
	ground.Does(g, s.tell)
	return s, nil
}

// Ended is a run that is over.
type Ended struct {
	Run        record.RunID `json:"run"`
	Reopenings int          `json:"reopenings"`
}

// Kind implements river.JobArgs.
func (Ended) Kind() string { return "traces-run" }

const (
	// answerWithin is how long a collector may take.
	answerWithin = 10 * time.Second
	// triedFor is how long it is tried: what is older tells nobody anything.
	triedFor = 6 * time.Hour
	// again is how long is waited before another try.
	again = 5 * time.Second
)

// tell tells the collector of a run.
func (s *Traces) tell(ctx context.Context, of Ended) error {
	if s.to == nil {
		return nil
	}
	run, err := s.Store.RunByID(ctx, of.Run)
	if errors.Is(err, store.ErrNotFound) || err == nil && run.Reopenings != of.Reopenings {
		return nil // it is gone, or goes on
	}
	if err != nil {
		return err
	}
	spans, err := s.spans(ctx, run)
	if err != nil {
		return err
	}
	text, err := proto.Marshal(spans)
	if err != nil {
		return err
	}
	if err := s.send(ctx, text); err != nil {
		if run.Finished != nil && time.Since(*run.Finished) > triedFor {
			s.Log.Warn("a run's trace was not taken for hours, and is given up", "run", run.Number, "error", err)
			return nil
		}
		return ground.InAWhile(again)
	}
	return nil
}

// send posts spans (OTLP specification, OTLP/HTTP request).
func (s *Traces) send(ctx context.Context, text []byte) error {
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.to.String(), bytes.NewReader(text))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-protobuf")
	req.Header.Set("User-Agent", "Gentle-Piston")
	res, err := world.Speaker(s.to, true).Do(req) // whoever starts the service has set it
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	if res.StatusCode/100 != 2 {
		return fmt.Errorf("the collector answered %s", res.Status)
	}
	return nil
}
