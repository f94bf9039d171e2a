package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

// Health tells whether the service can work, and if not what is wrong with which of its parts.
func (s *Service) Health(ctx context.Context) api.Health {
	parts := []api.HealthPart{part("database", s.store.Ping(ctx),
		"it cannot be reached just now; the service waits for it"),
		part("stream", s.stream.Health(), ""), part("disk", s.space.trouble(), "")}
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

// DefaultReserve is how much of the disk is kept free of jobs' files unless told otherwise, in bytes.
const DefaultReserve = 1_000_000_000

// space watches how much room the data folder's disk has.
type space struct {
	dir     string
	reserve int64

	mu     sync.Mutex
	looked time.Time
	err    error
}

// lookEvery is for how long an answer counts.
const lookEvery = time.Second

// errReserve says that the disk is almost full.
type errReserve struct{ free, reserve int64 }

func (e errReserve) Error() string {
	return fmt.Sprintf("the server's disk is almost full: %s are free, and %s are kept in reserve; make room, or keep "+
		"less (piston kept)",
		quantity.Bytes(e.free), quantity.Bytes(e.reserve))
}

// trouble tells that what is free is less than the reserve; nil when it is not.
func (sp *space) trouble() error {
	sp.mu.Lock()
	defer sp.mu.Unlock()
	if time.Since(sp.looked) < lookEvery {
		return sp.err
	}
	sp.looked = time.Now()
	sp.err = nil
	now, err := disk.Of(sp.dir)
	switch {
	case err != nil:
		sp.err = fmt.Errorf("it cannot be asked how full it is: %w", err)
	case now.Free < sp.reserve:
		sp.err = errReserve{now.Free, sp.reserve}
	}
	return sp.err
}

// again has the next question asked of the disk itself.
func (sp *space) again() {
	sp.mu.Lock()
	sp.looked = time.Time{}
	sp.mu.Unlock()
}

// held tells why no job is handed out; "" when they are. A disk that cannot be asked holds nothing up.
func (sp *space) held() string {
	var full errReserve
	if errors.As(sp.trouble(), &full) {
		return full.Error()
	}
	return ""
}

// Away tells, when an error means that a part of the service cannot do it just now, what to say of that; "" otherwise.
func Away(err error) string {
	switch {
	case errors.Is(err, stream.ErrAway):
		return err.Error()
	case store.Unavailable(err):
		return "the database is away or busy just now; try again in a moment"
	}
	return ""
}

// Changed reports whether an error means that somebody else changed the same in the same moment.
func Changed(err error) bool {
	return errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrExists)
}
