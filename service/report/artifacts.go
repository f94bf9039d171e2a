package report

import (
	"context"
	"io"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
)

// OpenArtifact reads a kept file of a run.
func (s *Report) OpenArtifact(ctx context.Context, project string, number record.RunNumber,
	id record.ArtifactID) (api.Artifact, io.ReadCloser, error) {
	run, err := s.FindRun(ctx, project, number)
	if err != nil {
		return api.Artifact{}, nil, err
	}
	f, err := s.Store.ArtifactByID(ctx, run.ID, id)
	if err != nil {
		return api.Artifact{}, nil, ground.Known(err, "artifact %d of run %d", id, number)
	}
	r, err := s.blobs.Open(ctx, f.Blob)
	return ground.ArtifactOf(f), r, err
}
