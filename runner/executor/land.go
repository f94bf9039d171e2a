package executor

import (
	"context"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/runner/beside"
)

// land carries out a step that brings the raised version back into the repository. The service does it: a runner can
// push nothing.
type land struct{ *Job }

// askAgain is how long is waited for another run that lands before.
const askAgain = time.Second

func (l land) execute(ctx context.Context, i int, _ *definition.Step) Outcome {
	ask := api.LandRequest{Step: i}
	for said := false; ; {
		var out api.Landed
		err := l.Attempt.Insist(ctx, "landing the version", func() (err error) {
			out, err = l.Attempt.Post.Land(ctx, l.Attempt.ID(), ask)
			return err
		})
		switch {
		case err != nil:
			return Outcome{Err: err}
		case out.After == 0:
			for _, line := range out.Lines() {
				l.Attempt.Say(i, "%s", line)
			}
			return Outcome{}
		case !said:
			l.Attempt.Say(i, "run %d has a version below %s and lands first; waiting", out.After, out.Name)
			said = true
		}
		beside.Pause(ctx, askAgain)
		if ctx.Err() != nil {
			return Outcome{Err: context.Cause(ctx)}
		}
	}
}
