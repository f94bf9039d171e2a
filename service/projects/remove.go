package projects

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"

	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
)

// blobsAtOnce is how many blobs are removed as one piece of work.
const blobsAtOnce = 1000

// leftBlobs are blobs that no record leads to any more.
type leftBlobs struct {
	Names []string `json:"names"`
}

// Kind implements river.JobArgs.
func (leftBlobs) Kind() string { return "drop-blobs" }

// dropBlobs removes them. One that is gone already is no error.
func (s *Projects) dropBlobs(ctx context.Context, left leftBlobs) error {
	var failed []error
	for _, name := range left.Names {
		if err := s.blobs.Delete(ctx, name); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", name, err))
		}
	}
	return errors.Join(failed...)
}

// RemoveProject removes a project with all its runs, logs, artifacts, caches and secrets. Its blobs go soon after.
func (s *Projects) RemoveProject(ctx context.Context, name string) error {
	p, err := s.FindProject(ctx, name)
	if err != nil {
		return err
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		blobs, err := q.BlobsOf(ctx, p.ID)
		if err != nil {
			return err
		}
		if err := q.RemoveProject(ctx, p.ID); err != nil {
			return ground.Known(err, "project %s", name)
		}
		for some := range slices.Chunk(blobs, blobsAtOnce) {
			if err := q.PutOff(ctx, leftBlobs{some}); err != nil {
				return err
			}
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.ProjectRemove, Project: name,
			Before: map[string]any{"remote": p.Remote, "blobs": len(blobs)}})
	})
	if err != nil {
		return err
	}
	if !source.IsLocal(p.Remote) {
		return os.RemoveAll(s.Mirror(p.ID))
	}
	return nil
}
