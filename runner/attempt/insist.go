package attempt

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/runner/beside"
)

// What fails since the service, its database or the way to it was away is not the job's fault: it is done again when
// they are back. Only what fails although they are there is told of the job.

// Patience is how long a runner keeps trying to report when the service is away.
const Patience = 10 * time.Minute

// insistTimes is how often something is tried again while the service is there: it may have gone and come back in
// between.
const insistTimes = 4

// insistPause is how long is waited before the first try again; before later ones longer.
const insistPause = 200 * time.Millisecond

// Insist does something that needs the service, again while that is away. What it does must be harmless to do twice.
func (a *Attempt) Insist(ctx context.Context, what string, do func() error) error {
	for n := 1; ; n++ {
		err := do()
		if err == nil || ctx.Err() != nil || a.Service == nil || isFinal(err) || n > insistTimes {
			return err
		}
		a.Log.Debug("trying again", "what", what, "error", err.Error())
		if waitErr := a.awaitService(ctx, time.Duration(n)*insistPause); waitErr != nil {
			return fmt.Errorf("%s: %w: %w", what, waitErr, err)
		}
	}
}

// isFinal tells that doing it again would come to the same: the service has refused it, or the error itself says so.
func isFinal(err error) bool {
	var final interface{ Final() }
	return errors.Is(err, client.ErrRefused) || errors.As(err, &final)
}

// awaitService waits until the service can work. When it stays away for longer than the runner's patience, the attempt
// is lost, and the service has it tried again once it is back.
func (a *Attempt) awaitService(ctx context.Context, first time.Duration) error {
	end := time.Now().Add(Patience)
	for wait := first; ; wait = min(wait*2, 2*time.Second) {
		beside.Pause(ctx, wait)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		err := a.Service.Ready(ctx)
		if err == nil || !client.Passing(err) {
			return nil // it answers
		}
		if time.Now().After(end) {
			return errLost
		}
	}
}
