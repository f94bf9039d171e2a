package definition

import (
	"fmt"
	"time"

	"gentlepiston.example/piston/core/quantity"
)

// MaxStay is the longest that a workspace stays after its job has ended.
const MaxStay = 8 * time.Hour

// stays complains of a workspace that is to stay for too long.
func stays(v *validator, job *Job, in func(...string) []string) {
	v.duration(job.Stay, in("stay")...)
	if d := job.Stay.Value(); d > MaxStay && d <= maxLimit {
		v.add("bad-duration", fmt.Sprintf("%q is longer than a workspace may stay", string(job.Stay)),
			fmt.Sprintf(`Write at most %q; whoever looks around can have it stay longer then.`, quantity.Span(MaxStay)),
			in("stay")...)
	}
}
