package publish

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// maxOutlets is how many a project may have.
const maxOutlets = 50

// Outlets lists those of a project.
func (s *Publish) Outlets(ctx context.Context, project string) ([]api.Outlet, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Outlets(ctx, p.ID)
	out := make([]api.Outlet, len(list))
	for i, o := range list {
		out[i] = outletOf(o)
	}
	return out, err
}

func outletOf(o store.Outlet) api.Outlet {
	in := o.Settings.V
	return api.Outlet{Name: o.Name, Kind: o.Kind, Folder: in.Folder, URL: in.URL, Client: in.Client,
		Region: in.Region, Takes: in.Takes, Days: in.Days, Expires: o.Expires,
		Warnings: warnings(o, time.Now()), Scope: in.Scope, SetBy: o.SetBy, SetAt: o.SetAt}
}

// warnSecret is how long before its end is told that what an outlet is spoken to with ends.
const warnSecret = 30 * 24 * time.Hour

func warnings(o store.Outlet, now time.Time) []string {
	if o.Expires == nil || o.Expires.Sub(now) > warnSecret {
		return []string{}
	}
	day, left := o.Expires.Format(time.DateOnly), o.Expires.Sub(now)
	if left <= 0 {
		return []string{"its secret has expired on " + day + ": piston outlet set gives it another"}
	}
	return []string{fmt.Sprintf("its secret expires on %s, in %d days: piston outlet set gives it another", day,
		int(left.Hours()/24))}
}

// credit is what a store is spoken to with, and what it signs its news with; it is kept encrypted.
type credit struct {
	Secret string `json:"secret"`
	News   string `json:"news"` // whsec_…
}

// checkOutlet refuses what cannot be an outlet, and gives what can.
func checkOutlet(name string, in api.NewOutlet) (o store.Outlet, err error) {
	o = store.Outlet{Name: name, Kind: in.Kind, Expires: in.Expires}
	o.Settings.V = store.OutletSettings{URL: in.URL, Client: in.Client, Takes: in.Takes, Scope: in.Scope}
	invalid := func(err error) error { return fmt.Errorf("%w: %w", err, ground.ErrInvalid) }
	if err := in.Scope.Check(); err != nil {
		return o, invalid(err)
	}
	if in.Kind == store.FolderOutlet {
		if in.URL != "" || in.Client != "" || in.Secret != "" || in.Expires != nil {
			return o, invalid(errors.New("a folder has no address, and is spoken to with nothing"))
		}
		o.Settings.V.Folder = cmp.Or(in.Folder, name)
		if err := outlet.FolderName(o.Settings.V.Folder); err != nil {
			return o, invalid(err)
		}
		return o, nil
	}
	if in.Kind == store.TestersOutlet {
		if in.URL != "" || in.Client != "" || in.Secret != "" || in.Folder != "" || in.Expires != nil {
			return o, invalid(errors.New("testers get what the service itself holds: nothing is spoken to"))
		}
		o.Settings.V.Days = in.Days
		return o, nil
	}
	if in.Folder != "" {
		return o, invalid(errors.New("a bucket or a store has an address, and no folder"))
	}
	at, err := outlet.Address(in.URL)
	if err == nil && in.Kind == store.BucketOutlet {
		_, _, _, err = outlet.BucketAddress(in.URL)
		o.Settings.V.Region = cmp.Or(in.Region, defaultRegion)
	}
	if err != nil {
		return o, invalid(err)
	}
	o.Settings.V.URL = at.String()
	if in.Client == "" {
		return o, invalid(errors.New("say by which client's id the outlet is spoken to"))
	}
	if err := outlet.CheckSecret(in.Secret); err != nil {
		return o, invalid(err)
	}
	return o, nil
}

// defaultRegion is what makers of S3-compatible buckets that have no regions take for one.
const defaultRegion = "us-east-1"

// SetOutlet makes an outlet, or changes it. What it is spoken to with stays when none is given.
func (s *Publish) SetOutlet(ctx context.Context, project, name string, in api.NewOutlet) (api.Outlet, error) {
	o, err := checkOutlet(name, in)
	if err != nil {
		return api.Outlet{}, err
	}
	who := ground.WhoAsks(ctx)
	o.SetBy, o.Settings.V.Inside = who.Name, who.Administrator
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Outlet{}, err
	}
	o.ProjectID = p.ID
	told := fact.Fact{Kind: fact.OutletSet, Project: project, Subject: name, After: o.Settings.V}
	write := func(q ground.Q, sealed []byte, to string) error {
		if sealed != nil {
			o.Ciphertext, o.SealedTo = sealed, &to
		}
		if err := s.mayBe(ctx, q, &o); err != nil {
			return err
		}
		return errors.Join(q.SetOutlet(ctx, o), q.Tell(ctx, told))
	}
	if in.Secret == "" {
		err = s.Tx(ctx, func(q ground.Q) error { return write(q, nil, "") })
	} else {
		key := make([]byte, 32)
		_, _ = rand.Read(key) // never fails (crypto/rand)
		text, _ := json.Marshal(credit{in.Secret, "whsec_" + base64.StdEncoding.EncodeToString(key)})
		err = s.vault.Sealing(ctx, text, write)
	}
	if err != nil {
		return api.Outlet{}, err
	}
	now, err := s.Store.OutletByName(ctx, p.ID, name)
	return outletOf(now), err
}

// mayBe refuses an outlet that would take the place of another, and completes it by what it was before.
func (s *Publish) mayBe(ctx context.Context, q ground.Q, o *store.Outlet) error {
	all, err := q.Outlets(ctx, o.ProjectID)
	if err != nil {
		return err
	}
	was := slices.IndexFunc(all, func(other store.Outlet) bool { return other.Name == o.Name })
	if was < 0 && len(all) >= maxOutlets {
		return fmt.Errorf("a project may have %d outlets, and more are %w", maxOutlets, ground.ErrInvalid)
	}
	if was >= 0 {
		before := all[was]
		at, then := before.Settings.V, o.Settings.V
		if at.Folder != then.Folder || at.URL != then.URL {
			if err := s.unused(ctx, q, before); err != nil {
				return err
			}
		} else {
			o.Settings.V.Inside = o.Settings.V.Inside || at.Inside
			if o.Ciphertext == nil {
				o.Ciphertext, o.SealedTo = before.Ciphertext, before.SealedTo
			}
		}
	}
	if (o.Kind == store.StoreOutlet || o.Kind == store.BucketOutlet) && o.Ciphertext == nil {
		return fmt.Errorf("an outlet that is spoken to with nothing is %w: give the client's secret, or its key",
			ground.ErrInvalid)
	}
	return nil
}

// unused refuses to change where an outlet is, once something has gone there: what is told of that would be wrong.
func (s *Publish) unused(ctx context.Context, q ground.Q, o store.Outlet) error {
	list, err := q.Publications(ctx, o.ProjectID, store.PublicationFilter{Outlet: o.Name, Limit: 1})
	if err == nil && len(list) > 0 {
		err = ground.Saying(ground.ErrExists, "releases have gone to outlet %s, so that it stays where it is; make another "+
			"one", o.Name)
	}
	return err
}

// DropOutlet removes an outlet to which nothing ever went.
func (s *Publish) DropOutlet(ctx context.Context, project, name string) error {
	_, o, err := s.find(ctx, project, name)
	if err != nil {
		return err
	}
	return s.Acting(ctx, fact.Fact{Kind: fact.OutletDrop, Project: project, Subject: name}, func(q ground.Q) error {
		if err := s.unused(ctx, q, o); err != nil {
			return err
		}
		return ground.Known(q.DropOutlet(ctx, o.ID), "outlet %s", name)
	})
}

// TryOutlet asks an outlet for what stands there, to see whether it answers.
func (s *Publish) TryOutlet(ctx context.Context, project, name string) (api.OutletTried, error) {
	p, o, err := s.find(ctx, project, name)
	if err != nil {
		return api.OutletTried{}, err
	}
	out, done, err := s.open(p.Name, o)
	if err == nil {
		defer done()
		err = out.Try(ctx)
	}
	if err != nil && ctx.Err() == nil {
		return api.OutletTried{Trouble: err.Error()}, nil
	}
	return api.OutletTried{}, err
}

// find finds an outlet of a project.
func (s *Publish) find(ctx context.Context, project, name string) (p store.Project, o store.Outlet, err error) {
	if p, err = s.FindProject(ctx, project); err != nil {
		return p, o, err
	}
	o, err = s.Store.OutletByName(ctx, p.ID, name)
	return p, o, ground.Known(err, "outlet %s of %s", name, project)
}
