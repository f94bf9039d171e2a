package executor

import (
	"context"
	"errors"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/packaging"
)

// signs carries out a step that signs packages. They are read in the job's sandbox; the runner asks the service for
// each signature.
type signs struct{ *Job }

// maxSignatures bounds what is asked for by one package: an app of iOS has one for each program, an APK a few.
const maxSignatures = 2000

// conversation is with the process that reads the packages.
type conversation struct {
	signs
	ctx   context.Context
	step  int
	who   *packaging.AskWho
	by    api.SigningIdentity
	given int
	took  time.Duration // of the service, for its signatures
}

func (s signs) execute(ctx context.Context, i int, step *definition.Step) Outcome {
	work := packaging.Work{Files: step.Sign.Files, Into: step.Sign.Into, Beside: step.Sign.Beside, By: "Gentle Piston",
		Entitlements: step.Sign.Entitlements,
		Now:          time.Now()}
	return Outcome{Err: s.inside(ctx, i, work, &conversation{signs: s, ctx: ctx, step: i})}
}

// hear implements listener.
func (c *conversation) hear(q packaging.Question) (*packaging.Answer, error) {
	switch {
	case q.Who != nil:
		a, err := c.identity(q.Who)
		return &a, err
	case q.Sign != nil:
		a, err := c.sign(q.Sign)
		return &a, err
	case q.Made != nil:
		c.report(q.Made)
	}
	return nil, nil
}

func (c *conversation) identity(who *packaging.AskWho) (a packaging.Answer, err error) {
	ask := api.IdentityRequest{Step: c.step, Platform: who.Platform, App: who.App}
	err = c.Attempt.Insist(c.ctx, "asking for the identity", func() (err error) {
		c.by, err = c.Attempt.Post.SigningIdentity(c.ctx, c.Attempt.ID(), ask)
		return err
	})
	c.who, c.given = who, 0
	a = packaging.Answer{Certificates: c.by.Certificates, Profiles: c.by.Profiles, Lineage: c.by.Lineage}
	if c.by.Former != nil {
		a.Former = c.by.Former.Certificates
	}
	return a, err
}

func (c *conversation) sign(in *packaging.AskSign) (a packaging.Answer, err error) {
	if c.given++; c.who == nil || c.given > maxSignatures {
		return a, errors.New("a package asked for more signatures than any needs")
	}
	ask := api.SignatureRequest{IdentityRequest: api.IdentityRequest{Step: c.step, Platform: c.who.Platform,
		App: c.who.App}, Identity: c.by.Name, Revision: c.by.Revision, File: in.File, Hash: in.Hash, Digest: in.Digest}
	if in.Former && c.by.Former != nil {
		ask.Revision = c.by.Former.Revision
	}
	began := time.Now()
	err = c.Attempt.Insist(c.ctx, "signing", func() error {
		made, err := c.Attempt.Post.Sign(c.ctx, c.Attempt.ID(), ask)
		a.Signature = made.Signature
		return err
	})
	c.took += time.Since(began)
	return a, err
}

// report tells of a package that is signed.
func (c *conversation) report(r *packaging.Report) {
	if len(r.Files) == 0 {
		return
	}
	size := ""
	if info, err := c.Files.Stat(r.Files[0]); err == nil {
		size = ", " + quantity.Bytes(info.Size())
	}
	c.Attempt.Say(c.step, "%s: %s %s (%s), signed by %s (%s)%s; signatures: %d in %s", strings.Join(r.Files, ", "), r.App,
		r.Version, r.Build, c.by.Name, strings.Join(r.Schemes, " "), size, c.given, quantity.Span(c.took))
	for _, p := range r.Programs {
		c.Attempt.Say(c.step, "  inside: %s", p)
	}
	c.took = 0
}
