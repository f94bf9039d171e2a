package publish

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"gentlepiston.example/piston/core/outletapi"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/releases"
	"gentlepiston.example/piston/store"
)

// newsPath is where an outlet tells that something has changed.
func newsPath(project, name string) string {
	return "/api/v1/projects/" + url.PathEscape(project) + "/outlets/" + url.PathEscape(name) + "/news"
}

// ErrNews says that it is not the outlet that tells something.
var ErrNews = errors.New("the signature does not fit")

// News takes what an outlet tells of a publication, signed by the rules of Standard Webhooks. It is only a reason to
// ask the outlet how that stands: told twice, late or in another order, it does no harm.
func (s *Publish) News(ctx context.Context, project, name string, header http.Header, body []byte) error {
	p, err := s.Store.ProjectByName(ctx, project)
	var o store.Outlet
	if err == nil {
		o, err = s.Store.OutletByName(ctx, p.ID, name)
	}
	if errors.Is(err, store.ErrNotFound) || err == nil && o.Ciphertext == nil {
		return ErrNews // no word on which there are
	}
	if err != nil {
		return err
	}
	with, err := s.creditOf(o)
	if err != nil {
		return err
	}
	signer, err := standardwebhooks.NewWebhook(with.News)
	if err != nil {
		return err
	}
	if err := signer.Verify(body, header); err != nil {
		return fmt.Errorf("%w: %w", ErrNews, err)
	}
	var t outletapi.Told
	if err := json.Unmarshal(body, &t); err != nil {
		return fmt.Errorf("the body is %w: %w", ground.ErrInvalid, err)
	}
	if t.Type != "offer.changed" || t.Data.Offer == "" {
		return nil // of a later protocol
	}
	about, err := s.Store.PublicationByRef(ctx, o.ID, t.Data.Offer)
	if errors.Is(err, store.ErrNotFound) {
		return nil // of somebody else, or not noted yet
	}
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		return q.PutOff(ctx, releases.PublicationDue{Publication: about.ID, Wake: true})
	})
}
