// Package identities keeps signing keys: made here or taken over, handed out to nobody. A run signs by asking for each
// signature; what it may sign with which key is judged every time, and written down for ever.
package identities

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/sign"
	"gentlepiston.example/piston/core/sign/apk"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/token"
)

// Identities is the room of identities.
type Identities struct {
	*ground.Ground
	vault  *vault.Vault
	tokens *token.Module

	mu   sync.Mutex
	open map[int64]sign.Signer // by revision: keys that were used lately, since opening one costs more than signing
}

// New makes it.
func New(g *ground.Ground, v *vault.Vault, tokens *token.Module) *Identities {
	return &Identities{Ground: g, vault: v, tokens: tokens, open: map[int64]sign.Signer{}}
}

var nameForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// The bounds of a project.
const (
	maxIdentities = 200
	maxProfiles   = 50
	maxProfile    = 1 << 20
)

// SetIdentity writes an identity's next key.
func (s *Identities) SetIdentity(ctx context.Context, project, person, name string,
	in api.NewIdentity) (api.Identity, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Identity{}, err
	}
	if !nameForm.MatchString(name) {
		return api.Identity{}, fmt.Errorf("%.70q is no name for an identity: it is %w; use small letters, digits and "+
			"dashes, such as play-upload", name, ground.ErrInvalid)
	}
	signer, err := s.keyOf(in)
	if err != nil {
		return api.Identity{}, err
	}
	if in.Rotate && in.Platform != "android" {
		return api.Identity{}, fmt.Errorf("only keys for Android are rotated; this is %w", ground.ErrInvalid)
	}
	prints := identity.FingerprintsOf(signer.Leaf())
	err = s.vault.Sealing(ctx, signer.plain, func(q ground.Q, sealed []byte, to string) error {
		was, err := q.LockIdentity(ctx, p.ID, name)
		switch {
		case errors.Is(err, store.ErrNotFound):
			list, err := q.Identities(ctx, p.ID, store.Page{})
			if err != nil {
				return err
			}
			if len(list) >= maxIdentities {
				return fmt.Errorf("%s has %d identities already, which is the most: %w", p.Name, len(list), ground.ErrInvalid)
			}
			if was.ID, err = q.AddIdentity(ctx, p.ID, name, in.Platform); err != nil {
				return ground.Known(err, "identity %s of %s", name, project)
			}
		case err != nil:
			return err
		case was.Platform != in.Platform:
			return fmt.Errorf("identity %s is for %s: it is %w for %s; give that one a name of its own", name, was.Platform,
				ground.ErrInvalid, in.Platform)
		}
		var lineage []byte
		if in.Rotate {
			if lineage, err = s.follow(was, name, signer.Leaf()); err != nil {
				return err
			}
		}
		n, err := q.AddKeyRevision(ctx, was.ID, store.KeyRevision{Chain: identity.Certificates(signer.Chain),
			Lineage: lineage, Fingerprint: prints.SHA256, Profiles: was.Profiles, Ciphertext: sealed, SealedTo: to,
			Made: in.Make != nil, Token: signer.token, By: person})
		if err != nil {
			return err
		}
		a := fact.Fact{Kind: fact.IdentitySet, Project: project, Subject: name, After: map[string]any{"revision": n,
			"rotated": in.Rotate, "fingerprint": prints.SHA256, "made_here": in.Make != nil, "token": signer.token,
			"platform": in.Platform}}
		if was.Number > 0 {
			a.Before = map[string]any{"revision": was.Number, "fingerprint": was.Fingerprint}
		}
		if err := q.Tell(ctx, a); err != nil || in.Settings == nil {
			return err
		}
		if was, err = q.LockIdentity(ctx, p.ID, name); err != nil {
			return err
		}
		return s.change(ctx, q, project, was, *in.Settings)
	})
	if err != nil {
		return api.Identity{}, err
	}
	return s.Identity(ctx, project, name)
}

// follow proves that a certificate follows the key that an identity has.
func (s *Identities) follow(was store.Identity, name string, next *x509.Certificate) ([]byte, error) {
	if was.Number == 0 {
		return nil, fmt.Errorf("there is no identity %s whose key could be rotated: %w", name, ground.ErrNotFound)
	}
	old, err := s.signer(was)
	if err != nil {
		return nil, err
	}
	return apk.Follow(was.Lineage, old, next)
}

// on changes an identity.
func (s *Identities) on(ctx context.Context, project, name string,
	change func(q ground.Q, was store.Identity) error) (api.Identity, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Identity{}, err
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		was, err := q.LockIdentity(ctx, p.ID, name)
		if err != nil {
			return ground.Known(err, "identity %s of %s", name, project)
		}
		return change(q, was)
	})
	if err != nil {
		return api.Identity{}, err
	}
	return s.Identity(ctx, project, name)
}

// ChangeIdentity writes what is said about an identity.
func (s *Identities) ChangeIdentity(ctx context.Context, project, name string,
	in api.IdentitySettings) (api.Identity, error) {
	return s.on(ctx, project, name, func(q ground.Q, was store.Identity) error {
		return s.change(ctx, q, project, was, in)
	})
}

func (s *Identities) change(ctx context.Context, q ground.Q, project string, was store.Identity,
	in api.IdentitySettings) error {
	note, apps, scope := was.Note, []string(was.Apps), was.Scope()
	if in.Note != nil {
		note = *in.Note
	}
	if in.Apps != nil {
		apps = *in.Apps
		for _, app := range apps {
			if app == "" || len(app) > 255 {
				return fmt.Errorf("%.60q is no application id: it is %w", app, ground.ErrInvalid)
			}
		}
	}
	if in.Scope != nil {
		scope = *in.Scope
		if err := scope.Check(); err != nil {
			return fmt.Errorf("the identity's scope is %w: %w", ground.ErrInvalid, err)
		}
	}
	if err := q.ChangeIdentity(ctx, was.ID, note, apps, scope); err != nil {
		return err
	}
	return q.Tell(ctx, fact.Fact{Kind: fact.IdentityChange, Project: project, Subject: was.Name,
		Before: map[string]any{"note": was.Note, "apps": was.Apps, "scope": was.Scope()},
		After:  map[string]any{"note": note, "apps": apps, "scope": scope}})
}

// AddProfile lays a provisioning profile with an identity; one for the same app gives way to it.
func (s *Identities) AddProfile(ctx context.Context, project, name string, in api.NewProfile) (api.Identity, error) {
	if len(in.Data) > maxProfile {
		return api.Identity{}, fmt.Errorf("a profile has at most %d bytes; this is %w", maxProfile, ground.ErrInvalid)
	}
	d, err := profile.ReadAll(in.Data)
	if err != nil {
		return api.Identity{}, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	return s.on(ctx, project, name, func(q ground.Q, was store.Identity) error {
		chain, err := identity.ReadCertificates(was.Chain)
		switch {
		case err != nil:
			return err
		case was.Platform != "ios":
			return fmt.Errorf("identity %s is for Android: a profile with it is %w", name, ground.ErrInvalid)
		case !d.Names(chain[0]):
			return fmt.Errorf("the profile %q is %w: it is for other certificates than that of %s, SHA-256 %s", d.Name,
				ground.ErrInvalid, name, was.Fingerprint)
		}
		list := slices.DeleteFunc(slices.Clone(was.Profiles.V), func(raw []byte) bool {
			old, err := profile.ReadAll(raw)
			return err != nil || old.App == d.App && (len(old.Devices) > 0) == (len(d.Devices) > 0)
		})
		if list = append(list, in.Data); len(list) > maxProfiles {
			return fmt.Errorf("identity %s has %d profiles already, which is the most: %w", name, maxProfiles, ground.ErrInvalid)
		}
		if err := q.SetProfiles(ctx, was.RevisionID, list); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.IdentityProfile, Project: project, Subject: name,
			After: map[string]any{"profile": d.Name, "app": d.App, "ends": d.Ends}})
	})
}

// ExportIdentity gives a copy of a key, under a passphrase. That it left is written before it is given.
func (s *Identities) ExportIdentity(ctx context.Context, project, person, name string,
	in api.IdentityExport) (api.ExportedIdentity, error) {
	var out api.ExportedIdentity
	_, err := s.on(ctx, project, name, func(q ground.Q, was store.Identity) error {
		if was.Token != "" {
			return ground.Refuse("the key of %s is in the token %s, and cannot leave it", name, was.Token)
		}
		signer, err := s.signer(was)
		if err != nil {
			return err
		}
		if out.Data, err = identity.Export(signer, in.Passphrase); err != nil {
			return fmt.Errorf("%w: %w", err, ground.ErrInvalid)
		}
		if err := q.NoteExport(ctx, was.RevisionID, person); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.IdentityExport, Project: project, Subject: name,
			After: map[string]any{"revision": was.Number, "fingerprint": was.Fingerprint}})
	})
	if err != nil {
		return api.ExportedIdentity{}, err
	}
	return out, nil
}

// DropIdentity removes an identity with all its keys. One that was made here and never copied is refused: what it has
// signed could never be updated again.
func (s *Identities) DropIdentity(ctx context.Context, project, name string) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		was, err := q.LockIdentity(ctx, p.ID, name)
		if err != nil {
			return ground.Known(err, "identity %s of %s", name, project)
		}
		if was.Made && was.Exported == nil {
			return ground.Refuse("the key of %s was made here, and nobody has a copy: export it first, then it can be dropped",
				name)
		}
		if err := q.DropIdentity(ctx, was.ID); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.IdentityDrop, Project: project, Subject: name,
			Before: map[string]any{"revision": was.Number, "fingerprint": was.Fingerprint}})
	})
}

// Identity tells of one, without its key.
func (s *Identities) Identity(ctx context.Context, project, name string) (api.Identity, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Identity{}, err
	}
	i, err := s.Store.IdentityByName(ctx, p.ID, name)
	if err != nil {
		return api.Identity{}, ground.Known(err, "identity %s of %s", name, project)
	}
	return told(i, time.Now())
}

// Identities lists those of a project, without their keys.
func (s *Identities) Identities(ctx context.Context, project string, page api.Page) ([]api.Identity, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Identities(ctx, p.ID, store.Page(page))
	out := make([]api.Identity, len(list))
	for n, i := range list {
		if out[n], err = told(i, time.Now()); err != nil {
			return nil, err
		}
	}
	return out, err
}

// The times before which an end is told of.
const (
	warnCertificate = 60 * 24 * time.Hour
	warnProfile     = 30 * 24 * time.Hour
)

// told is what is said of an identity.
func told(i store.Identity, now time.Time) (api.Identity, error) {
	chain, err := identity.ReadCertificates(i.Chain)
	if err != nil {
		return api.Identity{}, fmt.Errorf("the certificates of identity %s cannot be read: %w", i.Name, err)
	}
	leaf := chain[0]
	out := api.Identity{Name: i.Name, Platform: i.Platform, Note: i.Note, Apps: ground.NonNil(i.Apps), Scope: i.Scope(),
		Revision: i.Number, Subject: leaf.Subject.String(), Issuer: leaf.Issuer.String(),
		Key: identity.KindOf(leaf.PublicKey), Begins: leaf.NotBefore, Ends: leaf.NotAfter,
		Fingerprints: identity.FingerprintsOf(leaf), Certificates: string(i.Chain), Made: i.Made, Token: i.Token, Set: i.Set,
		By: i.By, Exported: i.Exported, ExportedBy: i.ExportedBy, Profiles: []api.AttachedProfile{}, Warnings: []string{}}
	if len(i.Lineage) > 0 {
		former, err := apk.Lineage(i.Lineage)
		if err != nil {
			return api.Identity{}, err
		}
		for _, c := range former[:len(former)-1] {
			out.Follows = append(out.Follows, identity.FingerprintsOf(c).SHA256)
		}
	}
	warn := func(format string, args ...any) { out.Warnings = append(out.Warnings, fmt.Sprintf(format, args...)) }
	ending := func(what string, ends time.Time, within time.Duration) {
		switch left := ends.Sub(now); {
		case left <= 0:
			warn("%s has expired on %s", what, ends.Format(time.DateOnly))
		case left < within:
			warn("%s expires on %s, in %d days", what, ends.Format(time.DateOnly), int(left.Hours()/24))
		}
	}
	ending("the certificate", leaf.NotAfter, warnCertificate)
	if i.Platform == "android" && leaf.NotAfter.Before(leaf.NotBefore.AddDate(identity.MinYears, 0, -1)) {
		warn("the certificate is good for less than %d years: an app can be updated by it until %s only", identity.MinYears,
			leaf.NotAfter.Format(time.DateOnly))
	}
	if i.Made && i.Exported == nil {
		warn("no copy of the key yet: were this server lost, so would be the app. Export it, and keep it elsewhere")
	}
	for _, raw := range i.Profiles.V {
		d, err := profile.ReadAll(raw)
		if err != nil {
			continue // it was read when it came
		}
		out.Profiles = append(out.Profiles, api.AttachedProfile{Name: d.Name, UUID: d.UUID, App: d.App, Team: d.Team,
			Ends: d.Ends, Devices: len(d.Devices)})
		ending(fmt.Sprintf("the profile %q", d.Name), d.Ends, warnProfile)
		if !d.Names(leaf) {
			warn("the profile %q is for other certificates", d.Name)
		}
	}
	slices.SortFunc(out.Profiles, func(a, b api.AttachedProfile) int { return strings.Compare(a.App, b.App) })
	return out, nil
}
