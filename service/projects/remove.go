package projects

import (
	"context"
	"os"

	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
)

// RemoveProject removes a project with all its runs, logs, artifacts, caches and secrets.
func (s *Projects) RemoveProject(ctx context.Context, name string) error {
	p, err := s.FindProject(ctx, name)
	if err != nil {
		return err
	}
	var blobs []string
	err = s.Tx(ctx, func(q ground.Q) (err error) {
		if blobs, err = q.BlobsOf(ctx, p.ID); err != nil {
			return err
		}
		if err := q.RemoveProject(ctx, p.ID); err != nil {
			return ground.Known(err, "project %s", name)
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.ProjectRemove, Project: name,
			Before: map[string]any{"remote": p.Remote, "blobs": len(blobs)}})
	})
	if err != nil {
		return err
	}
	for _, b := range blobs {
		if err := s.blobs.Delete(ctx, b); err != nil {
			s.Log.Warn("a blob of a removed project stays until the next sweep", "blob", b, "error", err)
		}
	}
	if !source.IsLocal(p.Remote) {
		return os.RemoveAll(s.Mirror(p.ID))
	}
	return nil
}
