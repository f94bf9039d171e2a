package attempt

import (
	"context"
	"io"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
)

// Post is where a runner gets things from and tells what happens: a service over HTTP, or, when a pipeline is
// tried without one, this machine itself. Its methods are those of client.Client and promise the same, its errors too:
// client.ErrNotFound, ErrGone, ErrRefused.
type Post interface {
	AppendLog(ctx context.Context, attempt record.AttemptID, first int64, text []byte) error
	Beat(ctx context.Context, attempt record.AttemptID) (api.Beat, error)
	Prepared(ctx context.Context, attempt record.AttemptID, in api.Prepared) error
	ReportSteps(ctx context.Context, attempt record.AttemptID, steps []api.StepReport) error
	HandBack(ctx context.Context, attempt record.AttemptID, in api.HandBack) error
	Finish(ctx context.Context, attempt record.AttemptID, in api.Finish) (api.Finished, error)
	FindCache(ctx context.Context, attempt record.AttemptID, in api.CacheWanted) (api.CacheFound, error)
	SaveTree(ctx context.Context, attempt record.AttemptID, in api.CacheSaved, written []byte) (api.CacheFound, error)
	KeepArtifact(ctx context.Context, attempt record.AttemptID, name, file, sha256 string, open func() (io.ReadCloser,
		error)) error
	HandOver(ctx context.Context, attempt record.AttemptID, name string, content io.Reader) error
	Handover(ctx context.Context, attempt record.AttemptID, job, name string) (io.ReadCloser, error)
	Raise(ctx context.Context, attempt record.AttemptID, in api.RaiseRequest) (api.Raised, error)
	Land(ctx context.Context, attempt record.AttemptID, in api.LandRequest) (api.Landed, error)
	SigningIdentity(ctx context.Context, attempt record.AttemptID, in api.IdentityRequest) (api.SigningIdentity, error)
	Judge(ctx context.Context, attempt record.AttemptID, in api.PackagesSeen) (api.Judged, error)
	Deal(ctx context.Context, attempt record.AttemptID, in api.DealRequest) (api.Dealt, error)
	RanCases(ctx context.Context, attempt record.AttemptID, in api.CasesRan) (api.CasesNoted, error)
	Sign(ctx context.Context, attempt record.AttemptID, in api.SignatureRequest) (api.MadeSignature, error)
}
