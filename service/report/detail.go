package report

import (
	"context"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/timing"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Run tells all that happened in a run.
func (s *Report) Run(ctx context.Context, project string, number record.RunNumber) (api.RunDetail, error) {
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return api.RunDetail{}, err
	}
	d := api.RunDetail{Run: ground.RunOf(run), Findings: run.Findings.V, Jobs: []api.Job{}, Artifacts: []api.Artifact{},
		Now: time.Now()}
	parts, err := s.parts(ctx, run.ID)
	if err != nil {
		return d, err
	}
	asked, err := s.gates.OfRun(ctx, run.ID)
	if err != nil {
		return d, err
	}
	why := map[string]string{}
	if !run.State.Over() {
		if why, err = s.work.Waiting(ctx, run.ID); err != nil {
			return d, err
		}
	}
	for _, j := range parts.jobs {
		job := parts.job(j, d.Now)
		if j.State == state.Queued {
			job.Waiting = waitsFor(j, why)
		}
		if g, is := asked[j.ID]; is {
			if job.Gate = &g; job.Attempt == 0 {
				job.Queued, job.Finished = &g.Asked, g.Ended
			}
		}
		d.Jobs = append(d.Jobs, job)
	}
	for _, f := range parts.artifacts {
		d.Artifacts = append(d.Artifacts, ground.ArtifactOf(f))
	}
	if run.State == state.Failed || run.State == state.TimedOut {
		var attempt record.AttemptID
		d.Failure, attempt = parts.failure(asked)
		if err := s.explain(ctx, run, attempt, d.Failure); err != nil {
			return d, err
		}
	}
	d.Reported = api.ReportedOf(d.Jobs)
	return d, nil
}

// parts is everything a run's detail is made of.
type parts struct {
	jobs      []store.Job
	attempts  map[record.JobID][]store.Attempt  // by job, oldest first
	steps     map[record.AttemptID][]store.Step // by attempt
	uses      map[record.AttemptID][]store.CacheUse
	artifacts []store.Artifact
}

func (s *Report) parts(ctx context.Context, run record.RunID) (parts, error) {
	p := parts{attempts: map[record.JobID][]store.Attempt{}, steps: map[record.AttemptID][]store.Step{},
		uses: map[record.AttemptID][]store.CacheUse{}}
	var err error
	if p.jobs, err = s.Store.Jobs(ctx, run); err != nil {
		return p, err
	}
	attempts, err := s.Store.Attempts(ctx, run)
	if err != nil {
		return p, err
	}
	for _, a := range attempts {
		p.attempts[a.JobID] = append(p.attempts[a.JobID], a)
	}
	steps, err := s.Store.StepsOfRun(ctx, run)
	if err != nil {
		return p, err
	}
	for _, step := range steps {
		p.steps[step.AttemptID] = append(p.steps[step.AttemptID], step)
	}
	uses, err := s.Store.CacheUses(ctx, run)
	if err != nil {
		return p, err
	}
	for _, u := range uses {
		p.uses[u.AttemptID] = append(p.uses[u.AttemptID], u)
	}
	p.artifacts, err = s.Store.Artifacts(ctx, run)
	return p, err
}

func (p parts) latest(j store.Job) (a store.Attempt, ok bool) {
	list := p.attempts[j.ID]
	if len(list) == 0 {
		return a, false
	}
	return list[len(list)-1], true
}

func (p parts) job(j store.Job, now time.Time) api.Job {
	d := j.Definition.V
	out := api.Job{Name: j.Name, State: j.State, Reason: j.Reason, After: ground.NonNil(d.After),
		Machine: ground.NonNil(d.Machine),
		Of:      d.Of, Advisory: d.Advisory,
		Attempts: []api.AttemptNote{}, Steps: []api.Step{}, Caches: []api.CacheUse{}}
	for _, a := range p.attempts[j.ID] {
		out.Attempts = append(out.Attempts, api.AttemptNote{Number: a.Number, State: a.State, Reason: a.Reason})
	}
	a, ok := p.latest(j)
	if !ok {
		for _, step := range d.Step {
			s := api.Step{Name: step.Name, State: state.Queued, Advisory: step.Advisory}
			if j.State.Over() {
				s.State = j.State
			}
			out.Steps = append(out.Steps, s)
		}
		return out
	}
	out.Attempt, out.Runner, out.LogLines = a.Number, a.Runner, a.LogLines
	out.Queued, out.Claimed, out.Prepared, out.Finished = &a.Queued, a.Claimed, a.Prepared, a.Finished
	times := timing.Job{Queued: a.Queued, Claimed: value(a.Claimed), Prepared: value(a.Prepared),
		Finished: value(a.Finished)}
	if len(d.Tools) > 0 {
		out.Tools = map[string]string{}
		for name := range d.Tools {
			if v, ok := a.ToolsFound.V[name]; ok {
				out.Tools[name] = v
			}
		}
	}
	for i, s := range p.steps[a.ID] {
		out.Steps = append(out.Steps, api.Step{Name: s.Name, State: s.State, Reason: s.Reason, ExitCode: s.ExitCode,
			Started: s.Started, Finished: s.Finished, FirstLine: s.FirstLine, LastLine: s.LastLine,
			Advisory: i < len(d.Step) && d.Step[i].Advisory, Note: s.Note,
			Reuse: (*api.Reuse)(s.Reuse.V)})
		times.Steps = append(times.Steps, timing.Step{Name: s.Name, Started: value(s.Started), Ended: value(s.Finished)})
		out.Tests = out.Tests.With((*api.TestReport)(s.Tests.V))
	}
	out.Timing = timing.Of(times, now)
	for _, u := range p.uses[a.ID] {
		out.Caches = append(out.Caches,
			api.CacheUse{Name: u.Name, Key: u.Key, Hit: u.Hit, Nearest: u.Nearest, Run: u.Source, Line: u.Line,
				Differs: u.Differs.V, Here: u.Here, Saved: u.Saved, Size: u.Size, Stored: u.Stored, TookMs: u.TookMs,
				Note: u.Note})
	}
	return out
}

// failure is what failed first, and in which attempt: the earliest failed step of any job, or a job that failed outside
// its steps.
func (p parts) failure(asked map[record.JobID]api.Gate) (first *api.Failure, attempt record.AttemptID) {
	var when time.Time
	for _, j := range p.jobs {
		a, ok := p.latest(j)
		if g, is := asked[j.ID]; is && g.Ended != nil {
			a.Reason, a.Finished, ok = j.Reason, g.Ended, true
		}
		if !ok || j.State != state.Failed && j.State != state.TimedOut || a.Finished == nil {
			continue
		}
		if j.Definition.V.Advisory {
			continue
		}
		f := failureOf(j, a, p.steps[a.ID])
		if first == nil || a.Finished.Before(when) {
			first, when, attempt = f, *a.Finished, a.ID
		}
	}
	return first, attempt
}

func failureOf(j store.Job, a store.Attempt, steps []store.Step) *api.Failure {
	f := &api.Failure{Job: j.Name, StepNo: -1, Reason: a.Reason, Lines: []logline.Line{}}
	for i, s := range steps {
		if s.State != state.Failed && s.State != state.TimedOut ||
			i < len(j.Definition.V.Step) && j.Definition.V.Step[i].Advisory {
			continue
		}
		f.Step, f.StepNo, f.ExitCode = s.Name, s.Position, s.ExitCode
		if s.Reason != "" {
			f.Reason = s.Reason
		}
		if s.Excerpt.V != nil {
			f.Lines = s.Excerpt.V
		}
		if s.Tests.V != nil {
			for _, c := range s.Tests.V.Failures {
				f.Tests = append(f.Tests, api.FailedCase{Case: c})
			}
		}
		break
	}
	return f
}

// waitsFor says what a queued job waits for: earlier jobs, or its turn in the queue.
func waitsFor(j store.Job, why map[string]string) string {
	if j.Ready {
		return why[j.Name]
	}
	return "comes after " + strings.Join(j.Definition.V.After, ", ")
}

func value(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}
