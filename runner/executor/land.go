package executor

import (
	"context"
	"strings"
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
			l.tell(i, out)
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

func (l land) tell(i int, out api.Landed) {
	if out.Commit != "" {
		l.Attempt.Say(i, "%s %s is commit %.12s on %s", out.App, out.Name, out.Commit, out.Branch)
	}
	if len(out.Files) > 0 {
		l.Attempt.Say(i, "changed: %s", strings.Join(out.Files, ", "))
	}
	if out.Tag != "" {
		l.Attempt.Say(i, "tagged %s", out.Tag)
	}
	if out.Note != "" {
		l.Attempt.Say(i, "%s", out.Note)
	}
}
