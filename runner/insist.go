package runner

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/client"
)

// What fails since the service, its database or the way to it was away is not the job's fault: it is done again when
// they are back. Only what fails although they are there is told of the job.

// insistTimes is how often something is tried again while the service is there: it may have gone and come back in
// between.
const insistTimes = 4

// unmendable is what no second try mends, such as that something is larger than may be taken.
type unmendable struct{ text string }

func (e *unmendable) Error() string { return e.text }

// insist does something that needs the service, again while that is away. What it does must be harmless to do twice.
func (j *job) insist(ctx context.Context, what string, do func() error) error {
	for n := 1; ; n++ {
		err := do()
		if err == nil || ctx.Err() != nil || j.Client == nil || isFinal(err) || n > insistTimes {
			return err
		}
		j.Log.Debug("trying again", "what", what, "attempt", j.work.Attempt, "error", j.hide.String(err.Error()))
		if waitErr := j.awaitService(ctx, time.Duration(n)*insistPause); waitErr != nil {
			return fmt.Errorf("%s: %w: %w", what, waitErr, err)
		}
	}
}

// insistPause is how long is waited before the first try again; before later ones longer.
const insistPause = 200 * time.Millisecond

// isFinal tells that doing it again would come to the same.
func isFinal(err error) bool {
	var size *unmendable
	var secret *holdsSecrets
	return errors.Is(err, client.ErrRefused) || errors.Is(err, ErrNothingToSave) ||
		errors.As(err, &size) || errors.As(err, &secret)
}

// awaitService waits until the service can work. When it stays away for longer than the runner's patience, the attempt
// is lost, and the service has it tried again once it is back.
func (j *job) awaitService(ctx context.Context, first time.Duration) error {
	end := time.Now().Add(patience)
	for wait := first; ; wait = min(wait*2, 2*time.Second) {
		pause(ctx, wait)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		err := j.Client.Ready(ctx)
		if err == nil || !client.Passing(err) {
			return nil // it answers
		}
		if time.Now().After(end) {
			return errLost
		}
	}
}
