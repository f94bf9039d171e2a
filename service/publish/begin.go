package publish

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/releases"
	"gentlepiston.example/piston/store"
)

// DefaultChannel is the one that is meant where none is named.
const DefaultChannel = "release"

// Wish is what is to be published, and where.
type Wish struct {
	Release store.Release
	Outlet  string
	Channel string
	Share   int      // 0: all
	Hold    bool     // keep it at the outlet until a share is set
	Note    string   // what those who get it should look at
	Raise   []string // how the share is raised by itself
	By      string   // "" its run
	Attempt *record.AttemptID
	Step    int
}

// complete fills in what need not be said.
func (w *Wish) complete() error {
	w.Channel, w.Share = cmp.Or(w.Channel, DefaultChannel), cmp.Or(w.Share, 100)
	if _, err := quantity.ParseStages(w.Share, w.Raise); err != nil {
		return fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	if !action.NameForm.MatchString(w.Channel) {
		return ground.Saying(ground.ErrInvalid, "%.60q is no channel: use letters, digits and . _ -, beginning with a "+
			"letter or digit", w.Channel)
	}
	return nil
}

// Begin puts a release on its way. A step has begun none yet.
func (s *Publish) Begin(ctx context.Context, w Wish) (p store.Publication, err error) {
	if err := w.complete(); err != nil {
		return p, err
	}
	o, err := s.Store.OutletByName(ctx, w.Release.ProjectID, w.Outlet)
	if err != nil {
		return p, ground.Known(err, "outlet %s of %s", w.Outlet, w.Release.Project)
	}
	if w.Attempt != nil {
		if why := o.Settings.V.Scope.Refuses(w.Release.Pipeline, w.Release.Branch, w.Release.Tag); why != "" {
			return p, ground.Refuse("outlet %s is not open to this run: %s", o.Name, why)
		}
	}
	parts, err := s.parts(ctx, w.Release, o)
	if err != nil {
		return p, err
	}
	p = store.Publication{ReleaseID: w.Release.ID, OutletID: o.ID, Channel: w.Channel, Share: w.Share,
		State: publication.Prepared, By: w.By, Attempt: w.Attempt, Step: w.Step, Hold: w.Hold,
		Note: w.Note}
	if p.Stages.V, err = quantity.ParseStages(w.Share, w.Raise); err != nil {
		return p, err
	}
	for _, part := range parts {
		p.Total += part.Size
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		r, err := q.LockRelease(ctx, w.Release.ID)
		if err != nil {
			return ground.Known(err, "release %s of %s", w.Release.Name, w.Release.App)
		}
		if r.Withdrawn != nil {
			return fmt.Errorf("%s %s is withdrawn, so that publishing it is %w", r.App, r.Name, ground.ErrInvalid)
		}
		if w.Attempt != nil { // of a job that was started again, when the one before it has begun this
			if p.ID, err = q.AdoptPublication(ctx, p); !errors.Is(err, store.ErrNotFound) {
				return err
			}
		}
		if err := q.AddPublication(ctx, &p); err != nil {
			if errors.Is(err, store.ErrExists) {
				return ground.Saying(ground.ErrExists, "another release is on its way into channel %s of %s; wait for it, or "+
					"withdraw it first", w.Channel, w.Outlet)
			}
			return err
		}
		if err := q.AddPublicationStep(ctx, store.PublicationStep{Publication: p.ID, State: p.State, By: w.By}); err != nil {
			return err
		}
		told := fact.Fact{Kind: fact.PublicationBegin, Project: r.Project, Subject: r.App + " " + r.Name,
			After: map[string]any{"outlet": w.Outlet, "channel": w.Channel, "share": w.Share}}
		if err := q.Tell(ctx, told); err != nil {
			return err
		}
		return q.PutOff(ctx, releases.PublicationDue{Publication: p.ID})
	})
	if err != nil {
		return p, err
	}
	return s.Store.PublicationByID(ctx, p.ID)
}

// parts are the packages of a release that an outlet takes.
func (s *Publish) parts(ctx context.Context, r store.Release, o store.Outlet) ([]store.ReleasePart, error) {
	list, err := s.Store.ReleaseParts(ctx, r.ID)
	if takes := o.Settings.V.Takes; len(takes) > 0 {
		list = slices.DeleteFunc(list, func(p store.ReleasePart) bool { return !slices.Contains(takes, p.Kind) })
	}
	return list, err
}

// offer is what a publication brings.
func (s *Publish) offer(ctx context.Context, r store.Release, to store.Outlet, p store.Publication) (o outlet.Offer,
	err error) {
	o = outlet.Offer{Key: p.Key, App: r.App, Name: r.Name, Builds: r.Builds.V, Channel: p.Channel, Share: p.Share,
		Hold: p.Hold, Note: p.Note, Release: r.ID, Notes: map[string]string{}}
	parts, err := s.parts(ctx, r, to)
	if err != nil {
		return o, err
	}
	for _, p := range parts {
		facts, err := s.Store.PackageFacts(ctx, p.ID)
		if err != nil {
			return o, err
		}
		var signers []string
		for _, one := range facts.Signers {
			signers = append(signers, one.Fingerprints.Hex())
		}
		o.Packages = append(o.Packages, outlet.Package{File: path.Base(p.File), Kind: p.Kind, Platform: p.Platform,
			ID: p.App, Build: p.Build, Size: p.Size, SHA256: p.SHA256, Signers: signers, Target: facts.Target,
			Processors: facts.Processors,
			Open: func(ctx context.Context, from int64) (io.ReadCloser, error) {
				return s.blobs.Range(ctx, p.Blob, from, -1)
			}})
	}
	notes, err := s.releases.Notes(ctx, r)
	for _, n := range notes {
		o.Notes[n.Language] = n.Text
	}
	return o, err
}

// Plan tells what publishing a release would change, and everything that is missing for it; nothing is changed.
func (s *Publish) Plan(ctx context.Context, project string, at api.ReleasePath, in api.NewPublication) (
	plan api.PublicationPlan, err error) {
	r, err := s.releases.Find(ctx, project, at)
	if err != nil {
		return plan, err
	}
	p, o, err := s.find(ctx, project, in.Outlet)
	if err != nil {
		return plan, err
	}
	w := Wish{Channel: in.Channel, Share: in.Share, Hold: in.Hold}
	if err := w.complete(); err != nil {
		return plan, err
	}
	plan = api.PublicationPlan{App: r.App, Name: r.Name, Builds: r.Builds.V, Outlet: o.Name, Channel: w.Channel,
		Share: w.Share, Missing: []publication.Missing{}}
	offer, err := s.offer(ctx, r, o, store.Publication{Channel: w.Channel, Share: w.Share, Hold: w.Hold})
	if err != nil {
		return plan, err
	}
	plan.Size = offer.Size()
	if r.Withdrawn != nil {
		plan.Missing = append(plan.Missing, publication.Missing{What: r.Name + " is withdrawn: " + r.WithdrawnWhy,
			Mend: "Make another release."})
	}
	out, done, err := s.open(p.Name, o)
	if err != nil {
		return plan, err
	}
	defer done()
	if plan.Now, err = out.Now(ctx, offer); err != nil {
		return plan, err
	}
	if err := s.learn(ctx, p.Name, offer, plan.Now); err != nil {
		return plan, err
	}
	missing, err := out.Missing(ctx, offer)
	plan.Missing = append(plan.Missing, missing...)
	return plan, err
}

// ByHand puts a release on its way since a person wants it.
func (s *Publish) ByHand(ctx context.Context, project string, at api.ReleasePath, in api.NewPublication) (
	api.Publication, error) {
	r, err := s.releases.Find(ctx, project, at)
	if err != nil {
		return api.Publication{}, err
	}
	p, err := s.Begin(ctx, Wish{Release: r, Outlet: in.Outlet, Channel: in.Channel, Share: in.Share,
		Hold: in.Hold, Note: in.Note, Raise: in.Raise, By: ground.WhoAsks(ctx).Name})
	return publicationOf(p), err
}

// learn has the ledger know which number an outlet has taken last, so that none is handed out that it would refuse.
func (s *Publish) learn(ctx context.Context, project string, o outlet.Offer, now publication.Standing) error {
	taken, err := strconv.ParseInt(now.Last, 10, 64)
	if err != nil || len(o.Packages) == 0 {
		return nil // it does not say, or not as a number
	}
	return s.versions.Learn(ctx, project, o.App, o.Packages[0].Platform, version.BuildNumber(taken))
}
