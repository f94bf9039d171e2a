package executor

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/signing"
)

// signs carries out a step that signs packages. They are read by this program in the job's sandbox, which has no key
// and no network; the runner asks the service for each signature on its behalf.
type signs struct{ *Job }

// SignInside is the argument by which this program does that.
const SignInside = "sign-inside"

// maxSignatures bounds what is asked for by one package: an app of iOS has one for each program, an APK a few.
const maxSignatures = 2000

// conversation is with the process that reads the packages.
type conversation struct {
	signs
	ctx   context.Context
	step  int
	who   *signing.AskWho
	by    api.SigningIdentity
	given int
	done  bool
	err   error
	took  time.Duration // of the service, for its signatures
}

func (s signs) execute(ctx context.Context, i int, step *definition.Step) Outcome {
	spec := &sandbox.Spec{Dir: ".", Own: []string{SignInside}, Network: "none",
		Env: map[string]string{"PATH": sandbox.StepPath(s.Box.Isolation), "LANG": "C.UTF-8", "TMPDIR": s.Box.Inside("tmp"),
			"GOMEMLIMIT": "512MiB"}}
	c := &conversation{signs: s, ctx: ctx, step: i}
	work := signing.Work{Files: step.Sign.Files, Into: step.Sign.Into, Beside: step.Sign.Beside, By: "Gentle Piston",
		Now: time.Now()}
	code, err := s.Box.Converse(ctx, spec, func(from io.Reader, to io.Writer) { c.talk(from, to, work) })
	err = errors.Join(err, spec.CleanUp())
	switch {
	case err != nil:
	case c.err != nil:
		err = c.err
	case !c.done:
		err = fmt.Errorf("reading the packages ended with exit code %d, before all were signed", code)
	}
	return Outcome{Err: err}
}

// talk answers questions until there are none.
func (c *conversation) talk(from io.Reader, to io.Writer, work signing.Work) {
	out, in := json.NewEncoder(to), bufio.NewScanner(from)
	in.Buffer(nil, 1<<20)
	if c.err = out.Encode(work); c.err != nil {
		return
	}
	for c.err == nil && !c.done && in.Scan() {
		var q signing.Question
		if err := json.Unmarshal(in.Bytes(), &q); err != nil {
			c.Attempt.Say(c.step, "%.500s", in.Text()) // what a program says that breaks
			continue
		}
		c.hear(q, out)
	}
	if c.err == nil {
		c.err = in.Err()
	}
}

// hear answers one.
func (c *conversation) hear(q signing.Question, out *json.Encoder) {
	var a signing.Answer
	var err error
	switch {
	case q.Who != nil:
		a, err = c.identity(q.Who)
	case q.Sign != nil:
		a, err = c.sign(q.Sign)
	case q.Made != nil:
		c.report(q.Made)
		return
	case q.Failed != "":
		c.err = errors.New(q.Failed)
		return
	case q.Done:
		c.done = true
		return
	}
	if err != nil {
		c.err = err // it is the step's; what the process makes of it does not matter
		a = signing.Answer{Refused: "refused"}
	}
	if err := out.Encode(a); err != nil && c.err == nil {
		c.err = err
	}
}

func (c *conversation) identity(who *signing.AskWho) (a signing.Answer, err error) {
	ask := api.IdentityRequest{Step: c.step, Platform: who.Platform, App: who.App}
	err = c.Attempt.Insist(c.ctx, "asking for the identity", func() (err error) {
		c.by, err = c.Attempt.Post.SigningIdentity(c.ctx, c.Attempt.ID(), ask)
		return err
	})
	c.who, c.given = who, 0
	return signing.Answer{Certificates: c.by.Certificates, Profiles: c.by.Profiles}, err
}

func (c *conversation) sign(in *signing.AskSign) (a signing.Answer, err error) {
	if c.given++; c.who == nil || c.given > maxSignatures {
		return a, errors.New("a package asked for more signatures than any needs")
	}
	ask := api.SignatureRequest{IdentityRequest: api.IdentityRequest{Step: c.step, Platform: c.who.Platform,
		App: c.who.App}, Identity: c.by.Name, Revision: c.by.Revision, File: in.File, Hash: in.Hash, Digest: in.Digest}
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
func (c *conversation) report(r *signing.Report) {
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
