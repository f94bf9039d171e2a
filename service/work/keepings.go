package work

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"path"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// KeepArtifact keeps a file of a running attempt; sha256 is what the runner computed and must be what arrives.
func (s *Work) KeepArtifact(ctx context.Context, attempt record.AttemptID, name, file, sha256 string,
	r io.Reader) (api.Artifact, error) {
	if _, err := s.runOfRunning(ctx, attempt); err != nil {
		return api.Artifact{}, err
	}
	blobName := fmt.Sprintf("artifacts/%d/%s%s", attempt, rand.Text(), path.Ext(path.Base(file)))
	w, err := s.blobs.Put(ctx, blobName, r)
	if err != nil {
		return api.Artifact{}, err
	}
	if w.SHA256 != sha256 {
		_ = s.blobs.Delete(ctx, blobName)
		return api.Artifact{},
			fmt.Errorf("%s arrived with digest %.12s, the runner says %.12s; %w", file, w.SHA256, sha256, ground.ErrInvalid)
	}
	a := store.Artifact{Name: name, Path: file, Size: w.Size, SHA256: w.SHA256, Blob: blobName}
	err = s.Store.AddArtifact(ctx, attempt, a)
	if errors.Is(err, store.ErrExists) {
		err = s.blobs.Delete(ctx, blobName) // the answer to an earlier try was lost; its file is there
	}
	return ground.ArtifactOf(a), err
}

func (s *Work) runOfRunning(ctx context.Context, attempt record.AttemptID) (store.Run, error) {
	a, err := s.Store.IsRunning(ctx, attempt)
	if err != nil {
		return store.Run{}, ground.Gone(err, attempt)
	}
	return s.Store.RunByID(ctx, a.RunID)
}

// HandOver keeps what a running attempt hands to later jobs of its run.
func (s *Work) HandOver(ctx context.Context, attempt record.AttemptID, name string, r io.Reader) error {
	if _, err := s.runOfRunning(ctx, attempt); err != nil {
		return err
	}
	blobName := fmt.Sprintf("handovers/%d/%s", attempt, rand.Text())
	w, err := s.blobs.Put(ctx, blobName, r)
	if err != nil {
		return err
	}
	err = s.Store.AddHandover(ctx, attempt, store.Handover{Name: name, Blob: blobName, Size: w.Size})
	if errors.Is(err, store.ErrExists) {
		err = s.blobs.Delete(ctx, blobName) // the answer to an earlier try was lost
	}
	return err
}

// OpenHandover reads what an earlier job of its run hands to a running attempt.
func (s *Work) OpenHandover(ctx context.Context, attempt record.AttemptID, job, name string) (io.ReadCloser, error) {
	run, err := s.runOfRunning(ctx, attempt)
	if err != nil {
		return nil, err
	}
	h, err := s.Store.HandoverOf(ctx, run.ID, job, name)
	if err != nil {
		return nil, ground.Known(err,
			"what job %s handed on as %s is not kept, or not any longer (piston kept tells how long); start the whole run again",
			job, name)
	}
	return s.blobs.Open(ctx, h.Blob)
}
