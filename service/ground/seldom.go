package ground

import (
	"context"
	"log/slog"
	"sync"
	"time"
)

// seldomEvery is how long the same words are not said again.
const seldomEvery = time.Hour

// seldom lets through what somebody should read of another program's log, each message once in a while: what goes wrong
// every few seconds while the database is away is said by our own loops already.
type seldom struct {
	slog.Handler
	said *sync.Map // when, by the message; there are as many as the program has
}

func newSeldom(h slog.Handler) seldom { return seldom{h, new(sync.Map)} }

// Enabled implements slog.Handler.
func (s seldom) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && s.Handler.Enabled(ctx, level)
}

// Handle implements slog.Handler.
func (s seldom) Handle(ctx context.Context, r slog.Record) error {
	last, before := s.said.Load(r.Message)
	if before && r.Time.Sub(last.(time.Time)) < seldomEvery {
		return nil
	}
	s.said.Store(r.Message, r.Time)
	return s.Handler.Handle(ctx, r)
}

// WithAttrs implements slog.Handler.
func (s seldom) WithAttrs(attrs []slog.Attr) slog.Handler {
	return seldom{s.Handler.WithAttrs(attrs), s.said}
}

// WithGroup implements slog.Handler.
func (s seldom) WithGroup(name string) slog.Handler { return seldom{s.Handler.WithGroup(name), s.said} }
