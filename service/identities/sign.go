package identities

import (
	"context"
	"crypto"
	"crypto/rand"
	_ "crypto/sha1" // what Android before 4.3 knows
	_ "crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/sign/apk"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// asker is the attempt that wants something signed, and for what.
type asker struct {
	attempt store.Attempt
	run     store.Run
	step    *definition.Step
}

// askerOf finds who asks. Only a step that signs may, of a run that is no proposal, while its attempt runs.
func (s *Identities) askerOf(ctx context.Context, attempt record.AttemptID, step int) (a asker, err error) {
	if a.attempt, err = s.Store.IsRunning(ctx, attempt); err != nil {
		return a, ground.Gone(err, attempt)
	}
	job, err := s.Store.JobByID(ctx, a.attempt.JobID)
	if err != nil {
		return a, err
	}
	if a.run, err = s.Store.RunByID(ctx, a.attempt.RunID); err != nil {
		return a, err
	}
	switch steps := job.Definition.V.Step; {
	case step >= len(steps) || steps[step].Sign == nil:
		return a, fmt.Errorf("step %d of the job signs nothing: %w", step+1, ground.ErrForbidden)
	case a.run.Outside || a.run.Trigger == plan.OnProposal:
		return a, ground.Refuse("a proposal is never signed: its changes are nobody's yet. Sign on the branch it goes to")
	default:
		a.step = steps[step]
	}
	return a, nil
}

// refuses tells why a run may not sign an app with an identity; "" when it may.
func (a asker) refuses(i store.Identity, in api.IdentityRequest, now time.Time) (string, error) {
	chain, err := identity.ReadCertificates(i.Chain)
	if err != nil {
		return "", err
	}
	if why := i.Scope().Refuses(a.run.Pipeline, a.run.Branch, a.run.Tag); why != "" {
		return why, nil
	}
	apps := []string(i.Apps)
	fits := len(apps) == 0
	for _, app := range apps {
		fits = fits || app == in.App
	}
	switch {
	case i.Platform != in.Platform:
		return fmt.Sprintf("it is for %s, and this is for %s", i.Platform, in.Platform), nil
	case !fits:
		return fmt.Sprintf("it is for %s only, and this is %s", strings.Join(apps, ", "), in.App), nil
	case now.After(chain[0].NotAfter):
		return "its certificate has expired on " + chain[0].NotAfter.Format(time.DateOnly), nil
	}
	return "", nil
}

// IdentityFor tells by whom a package is to be signed: the identity that the step names, or the only one that fits.
func (s *Identities) IdentityFor(ctx context.Context, attempt record.AttemptID,
	in api.IdentityRequest) (out api.SigningIdentity, err error) {
	a, err := s.askerOf(ctx, attempt, in.Step)
	if err != nil {
		return out, err
	}
	i, err := s.choose(ctx, a, in)
	if err != nil {
		return out, err
	}
	out = api.SigningIdentity{Name: i.Name, Revision: i.Number, Certificates: string(i.Chain), Profiles: i.Profiles.V,
		Lineage: i.Lineage}
	former, err := s.former(ctx, a.run.ProjectID, i)
	if former.Number > 0 {
		out.Former = &api.FormerKey{Revision: former.Number, Certificates: string(former.Chain)}
	}
	return out, err
}

// former is an identity with the oldest key of its lineage; without any where its key was not rotated.
func (s *Identities) former(ctx context.Context, project record.ProjectID, i store.Identity) (store.Identity, error) {
	if len(i.Lineage) == 0 {
		return store.Identity{}, nil
	}
	list, err := apk.Lineage(i.Lineage)
	if err != nil {
		return store.Identity{}, err
	}
	return s.Store.IdentityWithKey(ctx, project, i.Name, identity.FingerprintsOf(list[0]).SHA256)
}

func (s *Identities) choose(ctx context.Context, a asker, in api.IdentityRequest) (found store.Identity, err error) {
	list, err := s.Store.Identities(ctx, a.run.ProjectID, store.Page{})
	if err != nil {
		return found, err
	}
	var fit, why []string
	for _, i := range list {
		if a.step.Sign.Identity != "" && a.step.Sign.Identity != i.Name {
			continue
		}
		refused, err := a.refuses(i, in, time.Now())
		if err != nil {
			return found, err
		}
		if refused != "" {
			why = append(why, i.Name+": "+refused)
			continue
		}
		found, fit = i, append(fit, i.Name)
	}
	switch {
	case len(fit) == 1:
		return found, nil
	case len(fit) > 1:
		return found, ground.Refuse("several identities fit %s: %s; say which with identity = \"…\"", in.App,
			strings.Join(fit, ", "))
	case a.step.Sign.Identity != "" && len(why) == 0:
		return found, ground.Refuse("there is no identity %s in %s: piston identity make, or take", a.step.Sign.Identity,
			a.run.Project)
	case len(why) == 0:
		return found, ground.Refuse("%s has no identity yet: piston identity make, or take", a.run.Project)
	}
	return found, ground.Refuse("no identity may sign %s: %s", in.App, strings.Join(why, "; "))
}

// hashes are those that signatures are made over.
var hashes = map[string]crypto.Hash{"sha256": crypto.SHA256, "sha1": crypto.SHA1}

// Sign gives a signature over a digest. All that was said when the identity was asked for is judged again, and who
// signed what is written before the signature is given.
func (s *Identities) Sign(ctx context.Context, attempt record.AttemptID,
	in api.SignatureRequest) (out api.MadeSignature, err error) {
	a, err := s.askerOf(ctx, attempt, in.Step)
	if err != nil {
		return out, err
	}
	hash := hashes[in.Hash]
	if hash == 0 || len(in.Digest) != hash.Size() {
		return out, fmt.Errorf("a digest of %d bytes is %w as one of %.10q", len(in.Digest), ground.ErrInvalid, in.Hash)
	}
	i, err := s.Store.IdentityByName(ctx, a.run.ProjectID, in.Identity)
	if err != nil {
		return out, ground.Known(err, "identity %s of %s", in.Identity, a.run.Project)
	}
	why, err := a.refuses(i, in.IdentityRequest, time.Now())
	switch {
	case err != nil:
		return out, err
	case a.step.Sign.Identity != "" && a.step.Sign.Identity != i.Name:
		return out, fmt.Errorf("the step signs with %s, not with %s: %w", a.step.Sign.Identity, i.Name, ground.ErrForbidden)
	case why != "":
		return out, ground.Refuse("identity %s may not sign %s: %s", i.Name, in.App, why)
	}
	former, err := s.former(ctx, a.run.ProjectID, i)
	if err != nil {
		return out, err
	}
	proven := map[string]bool{i.Fingerprint: true} // certificates that devices take for the same signer's
	if former.Number > 0 {
		proven[former.Fingerprint] = true
		if former.Number == in.Revision {
			i = former
		}
	}
	if i.Number != in.Revision {
		return out, ground.Refuse("identity %s has a new key since the signing began; run it again", i.Name)
	}
	signer, err := s.signer(i)
	if err != nil {
		return out, err
	}
	if out.Signature, err = signer.Key.Sign(rand.Reader, in.Digest, hash); err != nil {
		s.forget(i)
		return out, err
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		if _, err := q.RunningAttempt(ctx, attempt); err != nil { // it may have ended meanwhile
			return ground.Gone(err, attempt)
		}
		expected, err := q.SignApp(ctx, a.run.ProjectID, store.AppCertificate{Platform: in.Platform, App: in.App,
			Fingerprint: i.Fingerprint, Run: a.run.Number})
		if err != nil {
			return err
		}
		if !proven[expected] {
			return ground.Refuse("%s was signed by another certificate until now: SHA-256 %s. This one is %s, of %s; devices "+
				"would refuse the update. If that is meant, a keeper says so: piston identity allow %s %s %s --platform %s",
				in.App, expected, i.Fingerprint, i.Name, a.run.Project, in.App, i.Fingerprint, in.Platform)
		}
		return q.AddSignature(ctx, store.Signature{Project: a.run.Project, Identity: i.Name, Revision: i.Number,
			Fingerprint: i.Fingerprint, Platform: in.Platform, App: in.App, File: in.File, Digest: in.Digest, Run: a.run.Number,
			Pipeline: a.run.Pipeline, Branch: a.run.Branch, Commit: a.run.Commit, Step: in.Step, Runner: a.attempt.Runner})
	})
	if err != nil {
		return api.MadeSignature{}, err
	}
	return out, nil
}

// AllowCertificate is a keeper's word that an app may be signed by another certificate from now on.
func (s *Identities) AllowCertificate(ctx context.Context, project string, in api.AllowCertificate) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		list, err := q.AppCertificates(ctx, p.ID)
		if err != nil {
			return err
		}
		was := ""
		for _, c := range list {
			if c.App == in.App && c.Platform == in.Platform {
				was = c.Fingerprint
			}
		}
		if err := q.AllowCertificate(ctx, p.ID, in.Platform, in.App, in.Fingerprint); err != nil {
			return ground.Known(err, "a signature of %s for %s in %s", in.App, in.Platform, project)
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.IdentityAllow, Project: project, Subject: in.App,
			Before: map[string]any{"fingerprint": was},
			After:  map[string]any{"fingerprint": in.Fingerprint, "platform": in.Platform}})
	})
}

// AppCertificates lists by which certificates a project's apps are signed.
func (s *Identities) AppCertificates(ctx context.Context, project string) ([]api.AppCertificate, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.AppCertificates(ctx, p.ID)
	out := make([]api.AppCertificate, len(list))
	for n, c := range list {
		out[n] = api.AppCertificate(c)
	}
	return out, err
}

// Signatures lists who signed what with which key, newest first.
func (s *Identities) Signatures(ctx context.Context, project string, f api.SignatureFilter) (api.SignaturePage, error) {
	out := api.SignaturePage{Signatures: []api.GivenSignature{}}
	if _, err := s.FindProject(ctx, project); err != nil {
		return out, err
	}
	list, err := s.Store.Signatures(ctx, store.SignatureFilter{Project: project, Identity: f.Identity, App: f.App,
		Run: f.Run, Before: f.Before, Limit: f.Limit + 1})
	if err != nil {
		return out, err
	}
	if len(list) > f.Limit {
		list = list[:f.Limit]
		out.Next = list[f.Limit-1].ID
	}
	for _, g := range list {
		out.Signatures = append(out.Signatures, api.GivenSignature{ID: g.ID, At: g.At, Identity: g.Identity,
			Revision: g.Revision, Fingerprint: g.Fingerprint, Platform: g.Platform, App: g.App, File: g.File,
			Digest: hex.EncodeToString(g.Digest), Run: g.Run, Pipeline: g.Pipeline, Branch: g.Branch, Commit: g.Commit,
			Step: g.Step, Runner: g.Runner})
	}
	return out, nil
}
