package attempt

import (
	"context"

	"gentlepiston.example/piston/api"
)

// report is something to tell the service: that the job is prepared, or how a step stands.
type report struct {
	prepared *api.Prepared
	step     api.StepReport
}

// Prepared reports that the job's steps begin.
func (a *Attempt) Prepared(p api.Prepared) { a.reports <- report{prepared: &p} }

// Report reports how a step stands.
func (a *Attempt) Report(step int, r api.StepReport) {
	r.Step = step
	a.reports <- report{step: r}
}

// tell sends reports in their order, beside the work, so that a step does not wait for them. Steps that have been
// reported meanwhile go together.
func (a *Attempt) tell(ctx context.Context) {
	var err error
	for r := range a.reports {
		for more := true; more && err == nil; {
			more = false
			if r.prepared != nil {
				err = a.Post.Prepared(ctx, a.ID(), *r.prepared)
				break
			}
			steps := []api.StepReport{r.step}
			for r, more = next(a.reports); more && r.prepared == nil; r, more = next(a.reports) {
				steps = append(steps, r.step)
			}
			err = a.Post.ReportSteps(ctx, a.ID(), steps)
		}
		if err != nil {
			a.broken(err)
			for range a.reports { // nobody wants the rest, but nobody may wait either
			}
		}
	}
}

// next takes a report that is there already.
func next(reports <-chan report) (r report, ok bool) {
	select {
	case r, ok = <-reports:
	default:
	}
	return r, ok
}
