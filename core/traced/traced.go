// Package traced gives runs, jobs and steps the ids by which traces know them (W3C Trace Context, Level 1). They follow
// from what they name, so that whoever knows a run knows them, and nothing has to be kept.
package traced

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Trace is the id of a trace.
type Trace [16]byte

// Span is the id of a span in it.
type Span [8]byte

// OfRun is the trace of a run; each time it is opened again it is another.
func OfRun(run record.RunID, queued time.Time, reopenings int) (t Trace) {
	sum := sha256.Sum256(fmt.Appendf(nil, "run %d %d %d", run, queued.UnixMicro(), reopenings))
	copy(t[:], sum[:])
	return t
}

// Read reads a trace's id as String writes it.
func Read(text string) (t Trace, err error) {
	raw, err := hex.DecodeString(text)
	if err != nil || len(raw) != len(t) {
		return t, fmt.Errorf("%.100q is no id of a trace", text)
	}
	copy(t[:], raw)
	return t, nil
}

// String writes it as Trace Context does.
func (t Trace) String() string { return hex.EncodeToString(t[:]) }

// Whole is the span of the run itself.
func (t Trace) Whole() Span { return t.span("run") }

// Attempt is the span of an attempt at a job, and Prepared that of its preparation.
func (t Trace) Attempt(id record.AttemptID) Span  { return t.span("attempt %d", id) }
func (t Trace) Prepared(id record.AttemptID) Span { return t.span("prepared %d", id) }

// Step is the span of a step, by its place in its job from 0 on.
func (t Trace) Step(id record.AttemptID, step int) Span { return t.span("step %d %d", id, step) }

func (t Trace) span(format string, args ...any) (s Span) {
	sum := sha256.Sum256(append(t[:], fmt.Sprintf(format, args...)...))
	copy(s[:], sum[:])
	return s
}

// Parent is what a program is handed whose work belongs to a span (Trace Context, section 3.2: traceparent).
func (t Trace) Parent(s Span) string { return fmt.Sprintf("00-%s-%s-01", t, hex.EncodeToString(s[:])) }
