package try

import (
	"cmp"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/timing"
)

// report makes of what jobs have told the same as a service would show.
func (t *trial) report() api.RunDetail {
	d := t.detail
	byName := map[string]*told{}
	for _, job := range t.desk.jobs {
		byName[job.name] = job
	}
	now := time.Now()
	d.State, d.Finished, d.Now = plan.Outcome(t.jobs), &now, now
	for _, j := range t.jobs {
		if t.Job != "" && j.Name != t.Job {
			continue
		}
		told := byName[j.Name]
		d.Jobs = append(d.Jobs, jobOf(j, told, now))
		if told == nil {
			continue
		}
		d.Artifacts = append(d.Artifacts, told.artifacts...)
		if d.Failure == nil && !j.Definition.Advisory && (j.State == state.Failed || j.State == state.TimedOut) {
			d.Failure = failureOf(j, told)
		}
	}
	d.Reported = api.ReportedOf(d.Jobs)
	if d.Failure != nil {
		d.Reason = d.Failure.Reason
	}
	return d
}

func jobOf(j plan.Job, told *told, now time.Time) api.Job {
	d := j.Definition
	out := api.Job{Name: j.Name, State: j.State, Reason: j.Reason, After: append([]string{}, d.After...),
		Machine: append([]string{}, d.Machine...),
		Of:      d.Of, Advisory: d.Advisory, Attempts: []api.AttemptNote{}, Steps: []api.Step{}, Caches: []api.CacheUse{}}
	if told == nil {
		for _, s := range d.Step {
			out.Steps = append(out.Steps, api.Step{Name: s.Name, State: cmp.Or(j.State, state.Skipped)})
		}
		return out
	}
	out.Attempt, out.Runner, out.LogLines, out.Caches = 1, "this machine", told.lines, append(out.Caches, told.caches...)
	out.Attempts = []api.AttemptNote{{Number: 1, State: j.State, Reason: j.Reason}}
	out.Queued, out.Claimed, out.Prepared, out.Finished = &told.claimed, &told.claimed, &told.prepared, &told.ended
	times := timing.Job{Queued: told.claimed, Claimed: told.claimed, Prepared: told.prepared, Finished: told.ended}
	for i, s := range d.Step {
		step := api.Step{Name: s.Name, State: state.Skipped, Advisory: s.Advisory}
		if r, ok := told.steps[i]; ok {
			step.State, step.Reason, step.ExitCode, step.FirstLine, step.LastLine = r.State, r.Reason, r.ExitCode, r.FirstLine,
				r.LastLine
			if r.State != state.Skipped {
				began, ended := told.started[i], time.UnixMilli(r.At)
				step.Started, step.Finished = &began, &ended
				times.Steps = append(times.Steps, timing.Step{Name: s.Name, Started: began, Ended: ended})
			}
			step.Note, step.Reuse = r.Note, r.Reuse
			out.Tests = out.Tests.With(r.Tests)
		}
		out.Steps = append(out.Steps, step)
	}
	out.Timing = timing.Of(times, now)
	return out
}

func failureOf(j plan.Job, told *told) *api.Failure {
	f := &api.Failure{Job: j.Name, StepNo: -1, Reason: j.Reason}
	for i, s := range j.Definition.Step {
		r := told.steps[i]
		if r.State != state.Failed && r.State != state.TimedOut || s.Advisory {
			continue
		}
		f.Step, f.StepNo, f.ExitCode, f.Lines = s.Name, i, r.ExitCode, r.Excerpt
		f.Reason = cmp.Or(r.Reason, f.Reason)
		if r.Tests != nil {
			for _, c := range r.Tests.Failures {
				f.Tests = append(f.Tests, api.FailedCase{Case: c})
			}
		}
		break
	}
	return f
}
