// Package publish is the room of releases on their way to people: outlets, and publications, each of which is brought
// once, whatever ends meanwhile. What is to be done next is in the records; a server that is killed is followed by
// another, and an outlet that cannot take it now is asked again.
package publish

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"

	"github.com/riverqueue/river"

	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/outletapi"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/service/releases"
	"gentlepiston.example/piston/service/testers"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/service/versions"
	"gentlepiston.example/piston/store"
)

// Publish is the room of publications.
type Publish struct {
	*ground.Ground
	vault    *vault.Vault
	letters  *letters.Letters
	versions *versions.Versions
	releases *releases.Releases
	testers  *testers.Testers
	blobs    *blob.Blobs
	public   string // address by which outlets reach the service; "" when that is not known
	folders  string // below which outlets that are folders are, each in the folder of its project
}

// New makes it.
func New(g *ground.Ground, v *vault.Vault, l *letters.Letters, n *versions.Versions, r *releases.Releases,
	t *testers.Testers, blobs *blob.Blobs, folders, public string) *Publish {
	if folders == "" {
		folders = filepath.Join(g.Home(), "outlets")
	}
	s := &Publish{g, v, l, n, r, t, blobs, public, folders}
	ground.Does(g, s.due)
	ground.TakesUp(g, "publications", func(ctx context.Context, q ground.Q) ([]record.PublicationID, error) {
		return q.LeftPublications(ctx)
	}, func(id record.PublicationID) river.JobArgs { return releases.PublicationDue{Publication: id} })
	return s
}

// open opens an outlet; done lets go of it.
func (s *Publish) open(project string, o store.Outlet) (out outlet.Outlet, done func(), err error) {
	switch o.Kind {
	case store.FolderOutlet:
		f, err := outlet.OpenFolder(filepath.Join(s.folders, project, filepath.FromSlash(o.Settings.V.Folder)))
		if err != nil {
			return nil, nil, &outlet.Away{Why: err}
		}
		return f, func() { _ = f.Close() }, nil
	case store.StoreOutlet:
		with, err := s.creditOf(o)
		if err != nil {
			return nil, nil, err
		}
		settings := outlet.StoreSettings{URL: o.Settings.V.URL, Client: o.Settings.V.Client, Secret: with.Secret,
			Inside: o.Settings.V.Inside}
		if s.public != "" {
			settings.News = outletapi.News{URL: s.public + newsPath(project, o.Name), Secret: with.News}
		}
		st, err := outlet.OpenStore(settings)
		return st, func() {}, err
	case store.BucketOutlet:
		with, err := s.creditOf(o)
		if err != nil {
			return nil, nil, err
		}
		b, err := outlet.OpenBucket(context.Background(), outlet.BucketSettings{URL: o.Settings.V.URL,
			Region: o.Settings.V.Region, Client: o.Settings.V.Client, Secret: with.Secret,
			Inside: o.Settings.V.Inside})
		if err != nil {
			return nil, nil, err
		}
		return b, func() { _ = b.Close() }, nil
	case store.TestersOutlet:
		return s.testers.Groups(o), func() {}, nil
	}
	return nil, nil, fmt.Errorf("outlet %s is of no kind that this server knows: %q", o.Name, o.Kind)
}

// creditOf is what an outlet is spoken to with.
func (s *Publish) creditOf(o store.Outlet) (with credit, err error) {
	text, err := s.vault.Open(o.Ciphertext)
	if err == nil {
		err = json.Unmarshal(text, &with)
	}
	return with, err
}
