package attempt

import (
	"context"
	"time"

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

// tellPause spaces what is told, so that a job of many short steps does not become two requests a step. What comes
// after a pause is told at once.
const tellPause = 40 * time.Millisecond

// tell sends reports in their order, beside the work, so that a step does not wait for them. Steps that have been
// reported meanwhile go together.
func (a *Attempt) tell(ctx context.Context) {
	var err error
	var told time.Time
	for r := range a.reports {
		if left := tellPause - time.Since(told); left > 0 && r.prepared == nil {
			select {
			case <-time.After(left):
			case <-a.last: // nothing more will come
			case <-ctx.Done():
			}
		}
		told = time.Now()
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
