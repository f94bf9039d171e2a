// Package executor carries out the steps of a job, each kind by an executor of its own: a script in the sandbox, or one
// of the product's own actions. What is the same for all of them stands here: when a step begins and ends, its limit,
// what is told of it.
package executor

import (
	"context"
	"errors"
	"fmt"
	"path"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/runner/workspace"
)

// Job is what the steps of one job work with.
type Job struct {
	Attempt *attempt.Attempt
	Files   *workspace.Workspace
	Box     *sandbox.Box
	Secrets api.SealedSecrets
	Kinds   map[string]string // of the secrets: a text or a file each
	Limits  definition.Numbers
	Sealed  *Sealed // of the step at work, when it says what it reads; else nil
}

// Sealed is what there is about a step that sees its inputs and nothing else.
type Sealed struct {
	Fails  error // why it cannot be carried out; nil when it can
	View   *workspace.View
	Lines  []string                          // what it has printed
	Long   bool                              // that is too much to be kept
	Tests  *api.TestReport                   // what its reports say
	Why    *api.Reuse                        // why it was not reused
	Passed func(ctx context.Context)         // called when it has passed
	Env    func(map[string]string)           // takes from its environment what it may not see
	Reads  func(lines []logline.Line) string // what it has looked for in vain that is there; "" nothing
}

// mostPrinted bounds what a step prints that can be reused, in bytes.
const mostPrinted = 4 << 20

// Outcome is what came of a step.
type Outcome struct {
	ExitCode *int            // of a script that ended by itself
	Tests    *api.TestReport // what its test reports say
	Excerpt  []logline.Line  // the lines that matter, when it failed
	Err      error           // why the job ends here; nil when the step passed
	Reason   string          // the same in short; "" when Err says it
	Note     string          // Markdown for the run's page
}

// executor carries out one kind of step.
type executor interface {
	execute(ctx context.Context, i int, step *definition.Step) Outcome
}

// executorOf is who carries a step out.
func (j *Job) executorOf(step *definition.Step) executor {
	switch {
	case step.Note != nil:
		return note{j}
	case step.Deal != nil:
		return deals{j}
	case step.Raise != nil:
		return raise{j}
	case step.Land != nil:
		return land{j}
	case step.Package != nil:
		return packs{j}
	case step.Sign != nil:
		return signs{j}
	case step.Checklist != nil:
		return checklists{j}
	}
	return script{j}
}

// Reused reports a step that need not run: its log is what it was, and so are its tests.
func (j *Job) Reused(i int, lines []string, tests *api.TestReport, why *api.Reuse, reason string) {
	first := j.Attempt.Last() + 1
	j.Attempt.Report(i, api.StepReport{State: state.Running, At: time.Now().UnixMilli(), FirstLine: first})
	for _, line := range lines {
		j.Attempt.Add(i, j.Attempt.Hide(line))
	}
	r := api.StepReport{State: state.Reused, Reason: reason, FirstLine: first, LastLine: j.Attempt.Last(), Tests: tests,
		Reuse: why, At: time.Now().UnixMilli()}
	if r.LastLine < first {
		r.FirstLine, r.LastLine = 0, 0
	}
	j.Attempt.Report(i, r)
}

// Run carries out a step and reports it; the error is why the job ends here, unless the step is only advisory.
func (j *Job) Run(ctx context.Context, i int) error {
	step := j.Attempt.Work.Job.Step[i]
	first := j.Attempt.Last() + 1
	j.Attempt.Report(i, api.StepReport{State: state.Running, At: time.Now().UnixMilli(), FirstLine: first})
	out := j.within(ctx, i, step)
	r := api.StepReport{State: state.Passed, ExitCode: out.ExitCode, FirstLine: first, Tests: out.Tests, Note: out.Note}
	if j.Sealed != nil {
		if j.Sealed.Tests = out.Tests; out.Err == nil && j.Sealed.Passed != nil {
			j.Sealed.Passed(ctx)
		}
		r.Reuse = j.Sealed.Why
	}
	if out.Err != nil {
		r.State, r.Excerpt = state.Failed, out.Excerpt
		if r.Reason = out.Reason; r.Reason == "" {
			r.Reason = j.Attempt.Reason(out.Err.Error())
		}
		var end attempt.Ending
		if errors.As(out.Err, &end) {
			r.State = end.State
		}
		j.Attempt.Say(i, "%s: %s", r.State, r.Reason)
	}
	r.At, r.LastLine = time.Now().UnixMilli(), j.Attempt.Last()
	if r.LastLine < first {
		r.FirstLine, r.LastLine = 0, 0 // it printed nothing
	}
	j.Attempt.Report(i, r)
	return out.Err
}

// within carries a step out within its limit.
func (j *Job) within(ctx context.Context, i int, step *definition.Step) Outcome {
	if step.Limit != "" {
		var release context.CancelFunc
		ctx, release = context.WithTimeoutCause(ctx, step.Limit.Value(),
			attempt.Ending{State: state.TimedOut, Reason: fmt.Sprintf("the step's limit of %s is over", step.Limit)})
		defer release()
	}
	if ctx.Err() != nil {
		return Outcome{Err: context.Cause(ctx)}
	}
	if j.Sealed != nil && j.Sealed.Fails != nil {
		return Outcome{Err: j.Sealed.Fails}
	}
	return j.executorOf(step).execute(ctx, i, step)
}

// DirOf is the folder a step works in: its own, else the job's.
func (j *Job) DirOf(step *definition.Step) string {
	if step.Dir != "" {
		return path.Clean(step.Dir)
	}
	return path.Clean(j.Attempt.Work.Job.Dir)
}
