package runner

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"time"

	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/runner/workspace"
)

// takeFiles puts what earlier jobs hand on into the workspace.
func (j *job) takeFiles(ctx context.Context) error {
	for _, take := range j.attempt.Work.Takes {
		began := time.Now()
		from, name, _ := strings.Cut(take, "/")
		err := j.attempt.Insist(ctx, "taking "+take, func() error {
			packed, err := j.attempt.Post.Handover(ctx, j.attempt.ID(), from, name)
			if err != nil {
				return err
			}
			defer packed.Close()
			return j.files.Take(packed, []string{"."})
		})
		if err != nil {
			return fmt.Errorf("taking %s: %w", take, err)
		}
		j.say("took %s in %s", take, quantity.Span(time.Since(began)))
	}
	return nil
}

// handFiles sends what later jobs may take. Everything that is named must be there.
func (j *job) handFiles(ctx context.Context) error {
	names := make([]string, 0, len(j.attempt.Work.Job.Hand))
	for name := range j.attempt.Work.Job.Hand {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		if err := j.handOne(ctx, name, j.attempt.Work.Job.Hand[name].Files); err != nil {
			j.say("failed: handing on %q: %v", name, err)
			return fmt.Errorf("handing on %q: %w", name, err)
		}
	}
	return nil
}

func (j *job) handOne(ctx context.Context, name string, globs []string) error {
	began := time.Now()
	found, err := j.files.Find(globs)
	switch {
	case err != nil:
		return err
	case len(found.Refused) > 0:
		return errors.New(strings.Join(found.Refused, "; "))
	case len(found.Files) == 0:
		return fmt.Errorf("nothing matches %s; did a step write it elsewhere?", strings.Join(globs, ", "))
	}
	paths, size := make([]string, len(found.Files)), int64(0)
	for i, f := range found.Files {
		paths[i], size = f.Path, size+f.Size
	}
	err = j.attempt.Insist(ctx, "handing on "+name, func() error {
		return j.files.Send(ctx, workspace.Bound{What: "hand", Most: j.limits.Hand}, paths, func(content io.Reader) error {
			return j.attempt.Post.HandOver(ctx, j.attempt.ID(), name, content)
		})
	})
	if err == nil {
		j.say("handed on %s: %s, %s, in %s", name, counted(len(paths)), quantity.Bytes(size),
			quantity.Span(time.Since(began)))
	}
	return err
}

func counted(files int) string {
	if files == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", files)
}
