// Package expiries is the room of what ends by itself: secrets, certificates, provisioning profiles, and what outlets
// are spoken to with. Whoever keeps a project is told before it does, while there is time to get another.
package expiries

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/notify"
	"gentlepiston.example/piston/store"
)

// Expiries is the room.
type Expiries struct{ *ground.Ground }

// New makes it.
func New(g *ground.Ground) *Expiries { return &Expiries{g} }

// Background starts its loops.
func (s *Expiries) Background() {
	s.OneOfAll(ground.Upkeep{What: "telling what expires", Every: time.Hour,
		Do: func(ctx context.Context) error { return s.Tell(ctx, time.Now()) }})
}

const day = 24 * time.Hour

// before are how long before an end it is told of: each once, the least one only where several have come.
var before = []time.Duration{0, day, 7 * day, 30 * day}

// ending is something that ends.
type ending struct {
	what string    // in words
	key  string    // says which it is, until another takes its place
	path string    // the room in the console where it is given another
	at   time.Time // when it ends
}

// Tell tells the keepers of all projects what ends soon.
func (s *Expiries) Tell(ctx context.Context, now time.Time) error {
	list, err := s.Store.ProjectsAmong(ctx, nil, true, store.Page{})
	if err != nil {
		return err
	}
	var all error
	for _, p := range list {
		if err := s.tell(ctx, p, now); err != nil && !errors.Is(err, store.ErrNotFound) {
			all = errors.Join(all, fmt.Errorf("what expires of %s: %w", p.Name, err)) // that of others is told all the same
		}
	}
	return all
}

func (s *Expiries) tell(ctx context.Context, p store.Project, now time.Time) error {
	list, err := s.endings(ctx, p)
	if err != nil {
		return err
	}
	for _, e := range list {
		for _, long := range before {
			if e.at.Sub(now) > long {
				continue
			}
			if err := s.once(ctx, p, e, long, now); err != nil {
				return err
			}
			break
		}
	}
	return nil
}

// once tells of an end, if it was not told of at this distance before.
func (s *Expiries) once(ctx context.Context, p store.Project, e ending, long time.Duration, now time.Time) error {
	key := fmt.Sprintf("%s %d %d", e.key, e.at.Unix(), long/day)
	err := s.Tx(ctx, func(q ground.Q) error {
		if err := q.TellExpiry(ctx, p.ID, key); err != nil {
			return err
		}
		return q.PutOff(ctx, notify.Happened{Project: p.ID, What: news.Expiry, Key: fmt.Sprintf("expiry %d %s", p.ID, key),
			Subject: p.Name + ": " + says(e, now), Path: "/" + p.Name + "/" + e.path,
			Data: map[string]any{"what": e.what, "ends": e.at.UTC(), "days": max(0, int(e.at.Sub(now)/day))}})
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil // it was told
	}
	return err
}

func says(e ending, now time.Time) string {
	date := e.at.UTC().Format(time.DateOnly)
	switch left := e.at.Sub(now); {
	case left <= 0:
		return fmt.Sprintf("%s has expired on %s", e.what, date)
	case left < 2*day:
		return fmt.Sprintf("%s expires on %s, within %d h", e.what, date, int(left.Hours())+1)
	default:
		return fmt.Sprintf("%s expires on %s, in %d days", e.what, date, int(left/day))
	}
}

// endings lists what ends of a project, whenever that is. A secret is told of in its home only.
func (s *Expiries) endings(ctx context.Context, p store.Project) (list []ending, err error) {
	secrets, err := s.Store.Secrets(ctx, p.ID, store.Page{})
	if err != nil {
		return nil, err
	}
	for _, v := range secrets {
		key := fmt.Sprintf("secret %d", v.ID)
		if v.HomeID != p.ID {
			continue
		}
		if v.Expires != nil {
			list = append(list, ending{"the secret " + v.Name, key, "secrets", *v.Expires})
		}
		if ends := v.Profile.V.Ends; !ends.IsZero() {
			list = append(list, ending{fmt.Sprintf("the profile in the secret %s", v.Name), key + " profile", "secrets", ends})
		}
	}
	identities, err := s.Store.Identities(ctx, p.ID, store.Page{})
	if err != nil {
		return nil, err
	}
	for _, i := range identities {
		key := fmt.Sprintf("identity %d", i.ID)
		if chain, err := identity.ReadCertificates(i.Chain); err == nil { // it was read when it came
			list = append(list, ending{"the certificate of the identity " + i.Name, key, "identities", chain[0].NotAfter})
		}
		for _, raw := range i.Profiles.V {
			if d, err := profile.ReadAll(raw); err == nil {
				list = append(list, ending{fmt.Sprintf("the profile %q of the identity %s", d.Name, i.Name), key + " " + d.UUID,
					"identities", d.Ends})
			}
		}
	}
	outlets, err := s.Store.Outlets(ctx, p.ID)
	for _, o := range outlets {
		if o.Expires != nil {
			list = append(list, ending{"what the outlet " + o.Name + " is spoken to with", fmt.Sprintf("outlet %d", o.ID),
				"outlets", *o.Expires})
		}
	}
	return list, err
}
