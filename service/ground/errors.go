package ground

import (
	"errors"
	"fmt"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

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

// Errors that callers tell apart. Everything else is a fault of ours.
var (
	ErrNotFound  = errors.New("not found")
	ErrExists    = errors.New("exists already")
	ErrInvalid   = errors.New("not valid")
	ErrForbidden = errors.New("not allowed")
	ErrGone      = errors.New("no longer this runner's")
)

// Known turns the store's errors into the service's, with what was looked for.
func Known(err error, format string, args ...any) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, store.ErrNotFound):
		return fmt.Errorf("%s: %w", fmt.Sprintf(format, args...), ErrNotFound)
	case errors.Is(err, store.ErrExists):
		return fmt.Errorf("%s: %w", fmt.Sprintf(format, args...), ErrExists)
	}
	return err
}

// ErrSignIn says that name and password do not belong together; it does not say which of them is wrong.
var ErrSignIn = errors.New("name or password is wrong")

// Refuse is an error of ErrForbidden that says why.
func Refuse(format string, args ...any) error {
	return fmt.Errorf("%s: %w", fmt.Sprintf(format, args...), ErrForbidden)
}

// Gone says that an attempt is over, or another runner's; what its runner still reports changes nothing.
func Gone(err error, attempt record.AttemptID) error {
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("attempt %d: %w", attempt, ErrGone)
	}
	return err
}

// saying is an error of a kind, in words of its own.
type saying struct {
	kind error
	text string
}

func (s *saying) Error() string { return s.text }
func (s *saying) Unwrap() error { return s.kind }

// Saying is an error of a kind that callers tell apart, which says something else than the kind's own words.
func Saying(kind error, format string, args ...any) error {
	return &saying{kind, fmt.Sprintf(format, args...)}
}
