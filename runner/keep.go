package runner

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"time"

	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/runner/workspace"
)

// keep sends the job's artifacts. After a passed job everything that is named must be there; after a failed one what
// is there is kept, for whoever looks into it.
func (j *job) keep(ctx context.Context, passed bool) error {
	names := make([]string, 0, len(j.attempt.Work.Job.Keep))
	for name := range j.attempt.Work.Job.Keep {
		names = append(names, name)
	}
	sort.Strings(names)
	var problems []error
	most := workspace.Bound{What: "keep", Most: j.limits.Keep}
	for _, name := range names {
		k := j.attempt.Work.Job.Keep[name]
		found, err := j.files.Find(k.Files)
		if err == nil && len(found.Refused) > 0 {
			err = fmt.Errorf("artifact %q: %s", name, strings.Join(found.Refused, "; "))
		}
		if err == nil && len(found.Files) == 0 && !k.Optional {
			hint := "did a step write it elsewhere?"
			if near := workspace.InOtherLetters(j.files.FS(), k.Files); near != "" {
				hint = "there is " + near + ": capitals and small letters are told apart"
			}
			err = fmt.Errorf("artifact %q: nothing matches %s; %s", name, strings.Join(k.Files, ", "), hint)
		}
		if err != nil {
			problems = append(problems, err)
			if passed {
				j.say("failed: %v", err)
			}
			continue
		}
		for _, f := range found.Files {
			if err := j.keepOne(ctx, name, f, k.MayHold, most); err != nil {
				problems = append(problems, fmt.Errorf("artifact %q: %s: %w", name, f.Path, err))
				continue
			}
			most = most.Less(f.Size)
		}
	}
	if !passed {
		return nil
	}
	return errors.Join(problems...)
}

func (j *job) keepOne(ctx context.Context, name string, f artifact.File, mayHold []string, most workspace.Bound) error {
	began := time.Now()
	info, err := j.files.Stat(f.Path)
	if err == nil {
		err = most.Check(f.Path, info)
	}
	if err != nil {
		return err
	}
	if err := j.files.Inspect(ctx, f, mayHold); err != nil {
		return err
	}
	sum, err := j.files.Digest(ctx, f.Path)
	if err != nil {
		return err
	}
	err = j.attempt.Insist(ctx, "keeping "+name, func() error {
		return j.attempt.Post.KeepArtifact(ctx, j.attempt.ID(), name, f.Path, sum,
			func() (io.ReadCloser, error) { return j.files.Open(f.Path) })
	})
	if err == nil {
		j.say("kept %s: %s, %s, sha256 %.12s, in %s", name, f.Path, quantity.Bytes(f.Size), sum,
			quantity.Span(time.Since(began)))
	}
	return err
}
