package attempt

import (
	"context"
	"fmt"
	"log/slog"
)

// quiet is a log that hides what the attempt's log does, since an error may name a file that is called like a secret.
func quiet(log *slog.Logger, hide func(string) string) *slog.Logger {
	return slog.New(quietHandler{log.Handler(), hide})
}

// quietHandler hides what is to be hidden in all texts of a record (slog.Handler).
type quietHandler struct {
	slog.Handler
	hide func(string) string
}

// Handle implements slog.Handler.
func (h quietHandler) Handle(ctx context.Context, r slog.Record) error {
	hidden := slog.NewRecord(r.Time, r.Level, h.hide(r.Message), r.PC)
	r.Attrs(func(a slog.Attr) bool {
		hidden.AddAttrs(h.attribute(a))
		return true
	})
	return h.Handler.Handle(ctx, hidden)
}

func (h quietHandler) attribute(a slog.Attr) slog.Attr {
	switch v := a.Value.Resolve(); v.Kind() {
	case slog.KindString:
		return slog.String(a.Key, h.hide(v.String()))
	case slog.KindAny, slog.KindGroup:
		return slog.String(a.Key, h.hide(fmt.Sprint(v.Any())))
	}
	return a
}

// WithAttrs implements slog.Handler.
func (h quietHandler) WithAttrs(list []slog.Attr) slog.Handler {
	hidden := make([]slog.Attr, len(list))
	for i, a := range list {
		hidden[i] = h.attribute(a)
	}
	return quietHandler{h.Handler.WithAttrs(hidden), h.hide}
}

// WithGroup implements slog.Handler.
func (h quietHandler) WithGroup(name string) slog.Handler {
	return quietHandler{h.Handler.WithGroup(name), h.hide}
}
