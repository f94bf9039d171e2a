package executor

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"gentlepiston.example/piston/packaging"
	"gentlepiston.example/piston/runner/sandbox"
)

// PackagesInside is the argument by which this program reads packages in a job's sandbox, which has no key, no network
// and nothing of the runner's: whoever takes it over has what the job's scripts had before.
const PackagesInside = "packages-inside"

// maxSaid bounds what that process says at once.
const maxSaid = 8 << 20

// listener hears what it says. What needs no answer gets none.
type listener interface {
	hear(q packaging.Question) (answer *packaging.Answer, err error)
}

// inside has packages read, and listens until it is done. An error of the listener is the step's, whatever the process
// makes of it.
func (j *Job) inside(ctx context.Context, i int, work packaging.Work, l listener) error {
	spec := &sandbox.Spec{Dir: ".", Own: []string{PackagesInside}, Network: "none",
		Env: map[string]string{"PATH": sandbox.StepPath(j.Box.Isolation), "LANG": "C.UTF-8", "TMPDIR": j.Box.Inside("tmp"),
			"GOMEMLIMIT": "512MiB"}}
	var said error
	done := false
	code, err := j.Box.Converse(ctx, spec, func(from io.Reader, to io.Writer) {
		out, in := json.NewEncoder(to), bufio.NewScanner(from)
		in.Buffer(nil, maxSaid)
		said = out.Encode(work)
		for said == nil && !done && in.Scan() {
			var q packaging.Question
			if err := json.Unmarshal(in.Bytes(), &q); err != nil {
				j.Attempt.Say(i, "%.500s", in.Text()) // what a program says that breaks
				continue
			}
			if done = q.Done; done {
				break
			}
			if q.Failed != "" {
				said = errors.New(q.Failed)
				break
			}
			var answer *packaging.Answer
			if answer, said = l.hear(q); answer != nil && said == nil {
				said = out.Encode(answer)
			}
		}
		if said == nil {
			said = in.Err()
		}
	})
	switch err = errors.Join(err, spec.CleanUp()); {
	case err != nil:
		return err
	case said != nil:
		return said
	case !done:
		return fmt.Errorf("reading the packages ended with exit code %d, before all were read", code)
	}
	return nil
}
