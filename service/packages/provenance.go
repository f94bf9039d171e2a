package packages

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"path"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/provenance"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// key is the one by which the service signs what it states. It is made when it is first needed; of two servers that
// make one at the same moment, both take that which was written first.
func (s *Packages) key(ctx context.Context) (store.ServiceKey, error) {
	k, err := s.Store.ServiceKey(ctx)
	if !errors.Is(err, store.ErrNotFound) {
		return k, err
	}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return k, err
	}
	text, err := provenance.MarshalKey(public)
	if err != nil {
		return k, err
	}
	if err := s.vault.Sealing(ctx, private.Seed(), func(q ground.Q, sealed []byte, to string) error {
		return q.AddServiceKey(ctx, store.ServiceKey{Public: text, Ciphertext: sealed, SealedTo: to})
	}); err != nil {
		return k, err
	}
	return s.Store.ServiceKey(ctx)
}

// PublicKey is what statements of this service are checked with.
func (s *Packages) PublicKey(ctx context.Context) (api.StatementKey, error) {
	k, err := s.key(ctx)
	return api.StatementKey{Key: k.Public}, err
}

// Provenance states from what a package was built, by whom and how, signed by the service.
func (s *Packages) Provenance(ctx context.Context, project string, id record.PackageID) (out api.Provenance,
	err error) {
	p, row, err := s.find(ctx, project, id)
	if err != nil {
		return out, err
	}
	runID, err := s.Store.PackageRun(ctx, id)
	if err != nil {
		return out, err
	}
	run, err := s.Store.RunByID(ctx, runID)
	if err != nil {
		return out, err
	}
	attempts, err := s.Store.Attempts(ctx, runID)
	if err != nil {
		return out, err
	}
	internal := provenance.Internal{Tools: map[string]string{}, Against: Told(row).Failed}
	for _, a := range attempts {
		internal.Runner = a.Runner
		for tool, version := range a.ToolsFound.V {
			internal.Tools[tool] = version
		}
	}
	build := provenance.BuildDefinition{BuildType: provenance.BuildType,
		ExternalParameters: provenance.Parameters{Project: project, Pipeline: run.Pipeline, Trigger: string(run.Trigger),
			Branch: run.Branch, Tag: run.Tag, Inputs: run.Inputs.V},
		InternalParameters: internal,
		ResolvedDependencies: []provenance.Source{{URI: "git+" + p.Remote,
			Digest: map[string]string{"gitCommit": run.Commit}}}}
	details := provenance.RunDetails{Builder: provenance.Builder{ID: provenance.BuildType},
		Metadata: provenance.Metadata{InvocationID: fmt.Sprintf("%s/%d", project, run.Number), Started: run.Started,
			Finished: run.Finished}}
	statement, err := provenance.New(subject(row), provenance.Predicate{BuildDefinition: build, RunDetails: details})
	if err != nil {
		return out, err
	}
	return s.sealed(ctx, statement)
}

// subject is what statements are about.
func subject(row store.Package) provenance.Subject {
	return provenance.Subject{Name: path.Base(row.File), Digest: map[string]string{"sha256": row.SHA256},
		Annotations: map[string]string{"app": row.App, "kind": row.Kind, "version": row.Version, "build": row.Build}}
}

// sealed signs a statement.
func (s *Packages) sealed(ctx context.Context, statement provenance.Statement) (out api.Provenance, err error) {
	k, err := s.key(ctx)
	if err != nil {
		return out, err
	}
	seed, err := s.vault.Open(k.Ciphertext)
	if err != nil {
		return out, err
	}
	defer clear(seed)
	envelope, err := provenance.Seal(ctx, statement, ed25519.NewKeyFromSeed(seed))
	return api.Provenance{Envelope: string(envelope), Key: k.Public}, err
}
