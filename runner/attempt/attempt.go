// Package attempt has a runner's side of one attempt at a job: it keeps the lease, reports what becomes of steps, sends
// the log, hears whether the work is still wanted, and tells how it ended. While the service is away it waits; an
// attempt that is another's by then is let go without a word.
package attempt

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/runner/beside"
)

// Outside is the step number of log lines that belong to no step.
const Outside = -1

// maxReason is the most bytes of a reason that is told.
const maxReason = 4000

// Config is what an attempt is made of.
type Config struct {
	Work    *api.Work
	Post    Post
	Service *client.Client // what is insisted on; nil for a trial's
	Hide    func(string) string
	Runner  string                // its name
	MostLog int64                 // bytes of log that steps may print; 0 any
	Caches  func() []api.CacheUse // what came of the caches, for the end
	Log     *slog.Logger
}

// Attempt is one attempt at work.
type Attempt struct {
	Config
	sink    *logSink // nil before it is carried out: what is said then goes nowhere
	reports chan report
	last    chan struct{} // closed when the last report is in
	cancel  context.CancelCauseFunc
	stays   bool
}

// New is an attempt that has not begun.
func New(c Config) *Attempt {
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	c.Log = quiet(c.Log, c.Hide).With("project", c.Work.Project, "run", c.Work.Run, "job", c.Work.Job.Name, "attempt",
		c.Work.Number)
	return &Attempt{Config: c, reports: make(chan report, 64), last: make(chan struct{}), cancel: func(error) {}}
}

// ID is what the service knows it by.
func (a *Attempt) ID() record.AttemptID { return a.Work.Attempt }

// Ending is why a job ends before its time, and as what.
type Ending struct {
	State  state.State
	Reason string
}

func (e Ending) Error() string { return e.Reason }

// errLost ends a job whose attempt is no longer this runner's: nobody wants to hear of it any more.
var errLost = errors.New("the attempt is no longer this runner's")

// errQuit ends a job because the runner itself is ending; another is to do it.
var errQuit = errors.New("the runner is ending")

// end ends the job's work.
func (a *Attempt) end(e Ending) { a.cancel(e) }

// OverLimit ends it because it takes more than it may.
func (a *Attempt) OverLimit(what, most string) {
	a.end(Ending{state.Failed, fmt.Sprintf("the job's limit of %s is reached: %s", what, most)})
}

// Carry has do carry the work out, tells the service of it, and in the end how it ended: do's error is why, if it did
// not pass. What comes back says the same, or that the attempt was lost or handed back.
func (a *Attempt) Carry(parent context.Context, do func(ctx context.Context) error) error {
	ctx, cancel := context.WithCancelCause(parent)
	defer cancel(nil)
	a.cancel = cancel
	limit := a.Work.Job.Limit
	limited, release := context.WithTimeoutCause(ctx, limit.Value(),
		Ending{state.TimedOut, fmt.Sprintf("the job's limit of %s is over", limit)})
	defer release()

	// Reports go on when the job is being ended; only the runner's own end or a lost attempt stops them.
	telling, hush := context.WithCancelCause(context.WithoutCancel(parent))
	defer hush(nil)
	defer context.AfterFunc(ctx, func() {
		if cause := context.Cause(ctx); errors.Is(cause, errLost) || parent.Err() != nil {
			hush(cause)
		}
	})()
	a.sink = newLogSink(telling, func(ctx context.Context, first int64, text []byte) error {
		return a.Post.AppendLog(ctx, a.ID(), first, text)
	}, a.broken)
	a.sink.most, a.sink.over = a.MostLog, func() { a.OverLimit("log", quantity.Bytes(a.MostLog)) }
	var reporting sync.WaitGroup
	reporting.Go(func() { a.tell(telling) })
	defer beside.Do(telling, a.beat)()

	result := do(limited)
	if cause := context.Cause(limited); cause != nil && result != nil {
		result = cause // what ended the context says more than the error it caused
	}
	if parent.Err() != nil {
		result = errQuit
	}
	close(a.last)
	close(a.reports)
	a.sink.close()
	reporting.Wait()
	if result == nil {
		result = context.Cause(ctx) // the work is done, but what was told of it did not arrive
	}
	if errors.Is(result, errQuit) {
		a.handBack()
	} else {
		a.finish(telling, result)
	}
	return result
}

// Add puts a line of a step into the log, and gives it back with its number; 0 when no more are taken.
func (a *Attempt) Add(step int, text string) logline.Line {
	if a.sink == nil {
		return logline.Line{}
	}
	return a.sink.add(step, text)
}

// Last is the number of the log's last line.
func (a *Attempt) Last() int64 { return a.sink.last() }

// oneLine keeps what has line breaks in it, such as a file's name, from becoming several lines.
var oneLine = strings.NewReplacer("\n", "\u240a", "\r", "\u240d", "\x00", "\u2400")

// Say writes a line of our own into the log.
func (a *Attempt) Say(step int, format string, args ...any) {
	a.Add(step, a.Hide(oneLine.Replace(fmt.Sprintf(format, args...))))
}

// Reason hides what is to be hidden in a reason, and cuts it.
func (a *Attempt) Reason(text string) string {
	text = a.Hide(text)
	if len(text) <= maxReason {
		return text
	}
	return text[:maxReason-3] + "…"
}

// broken is called when the service no longer takes what we tell it.
func (a *Attempt) broken(err error) {
	if errors.Is(err, client.ErrGone) {
		err = errLost
	}
	a.cancel(err)
}

// beat tells the service that we live, and hears from it whether the job is still wanted.
func (a *Attempt) beat(ctx context.Context) {
	for ctx.Err() == nil {
		answer, err := a.Post.Beat(ctx, a.ID())
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			a.broken(err)
			return
		case answer.Stop:
			end := Ending{answer.State, answer.Reason}
			if end.State == "" {
				end.State = state.Cancelled
			}
			a.cancel(end)
			return
		}
	}
}

// handBackWithin bounds what a runner that is ending takes to give a job back. When that fails, the attempt is lost.
const handBackWithin = 5 * time.Second

// handBack gives the job to another runner, since this one is ending.
func (a *Attempt) handBack() {
	ctx, cancel := context.WithTimeout(context.Background(), handBackWithin)
	defer cancel()
	err := a.Post.HandBack(ctx, a.ID(),
		api.HandBack{Reason: fmt.Sprintf("handed back: runner %s is ending", a.Runner)})
	if err != nil {
		a.Log.Warn("a job could not be handed back", "error", err)
	}
}

// finish tells how the attempt ended, unless it is not ours any more.
func (a *Attempt) finish(ctx context.Context, result error) {
	if errors.Is(result, errLost) {
		return
	}
	f := api.Finish{State: state.Passed, At: time.Now().UnixMilli(), Lines: a.sink.last(), Caches: a.Caches()}
	var end Ending
	switch {
	case errors.As(result, &end):
		f.State, f.Reason = end.State, end.Reason
	case result != nil:
		f.State, f.Reason = state.Failed, result.Error()
	}
	f.Reason = a.Reason(f.Reason)
	// An end that has been taken makes the next beat hear that the attempt is over, maybe before we hear that it was
	// taken.
	answer, err := a.Post.Finish(ctx, a.ID(), f)
	if err != nil && !errors.Is(context.Cause(ctx), errLost) {
		a.Log.Warn("the end of a job could not be reported", "error", err)
	}
	a.stays = err == nil && answer.Stays
}

// Stays tells, once it has ended, whether its workspace is to stay.
func (a *Attempt) Stays() bool { return a.stays }
