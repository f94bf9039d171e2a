package service

import (
	"context"

	"gentlepiston.example/piston/api"
)

// Health tells whether the service can work, and if not what is wrong with which of its parts.
func (s *Service) Health(ctx context.Context) api.Health {
	parts := []api.HealthPart{part("database", s.Store.Ping(ctx),
		"it cannot be reached just now; the service waits for it"),
		part("stream", s.Stream.Health(), ""), part("disk", s.Space.Trouble(), "")}
	h := api.Health{OK: true, Parts: parts}
	for _, p := range parts {
		h.OK = h.OK && p.OK
	}
	return h
}

func part(name string, err error, instead string) api.HealthPart {
	p := api.HealthPart{Name: name, OK: err == nil}
	if err != nil {
		if p.Trouble = instead; instead == "" {
			p.Trouble = err.Error()
		}
	}
	return p
}
