package own

import (
	"context"
	"time"

	"gentlepiston.example/piston/api"
)

// landAgain is how long is waited for another run that lands before.
const landAgain = 3 * time.Second

// land brings the run's version back into the repository, once those below it have landed.
func (j *job) land(ctx context.Context, i int) (again time.Duration, err error) {
	out, err := j.versions.Land(ctx, j.attempt.ID, api.LandRequest{Step: i})
	if err != nil {
		return 0, err
	}
	if out.After != 0 {
		return landAgain, nil
	}
	for _, line := range out.Lines() {
		if err := j.say(ctx, i, "%s", line); err != nil {
			return 0, err
		}
	}
	return 0, nil
}
