package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
)

// healthWithin bounds the asking of each part.
const healthWithin = 2 * time.Second

// answerWithStatus is an answer whose status says the same as its body.
type answerWithStatus[T any] struct {
	Status int
	Body   T
}

// health registers what monitors ask: is the process alive, can it do work, and if not what is wrong with which part.
func (sv *server) health(a huma.API) {
	ask := func(ctx context.Context) api.Health {
		ctx, cancel := context.WithTimeout(ctx, healthWithin)
		defer cancel()
		return sv.s.Health(ctx)
	}
	huma.Register(a, huma.Operation{Method: http.MethodGet, Path: Prefix + "/health", OperationID: "health",
		Summary: "Is the service able to work? If not, which of its parts is not, and why; then the status is 503"},
		func(ctx context.Context, _ *none) (*answerWithStatus[api.Health], error) {
			h := ask(ctx)
			if !h.OK {
				return &answerWithStatus[api.Health]{http.StatusServiceUnavailable, h}, nil
			}
			return &answerWithStatus[api.Health]{http.StatusOK, h}, nil
		})
	command(a, http.MethodGet, "/health/live", "live",
		"Does the process answer? Nothing else is asked: restart it when this fails",
		func(context.Context, *none) error { return nil })
	command(a, http.MethodGet, "/health/ready", "ready",
		"May it be sent requests? 503 when not: leave it out of a load balancer until it may",
		func(ctx context.Context, _ *none) error {
			if h := ask(ctx); !h.Ready() {
				return huma.Error503ServiceUnavailable(h.Trouble())
			}
			return nil
		})
}
