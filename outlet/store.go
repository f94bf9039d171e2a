package outlet

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/core/outletapi"
	"gentlepiston.example/piston/core/plain"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/version"
)

// Store is an outlet that speaks the outlet protocol: a store, or an adapter of one.
type Store struct {
	door *door
	news outletapi.News
}

// StoreSettings say where a store is, and who brings it something.
type StoreSettings struct {
	URL    string
	Client string // OAuth 2.0: the client's id
	Secret string // and its secret, or its private key as PEM
	News   outletapi.News
	Inside bool // it may be on this machine, or in its network
}

// OpenStore opens a store; nothing is said to it yet.
func OpenStore(s StoreSettings) (*Store, error) {
	d, err := newDoor(s)
	return &Store{d, s.News}, err
}

// Try implements Outlet: somebody who is authorized is told that there is no such offer.
func (s *Store) Try(ctx context.Context) error {
	about, err := s.about(ctx)
	if err != nil {
		return err
	}
	if about.Protocol != outletapi.Version {
		return fmt.Errorf("%s speaks version %d of the outlet protocol; this speaks %d", about.Name, about.Protocol,
			outletapi.Version)
	}
	err = s.door.call(ctx, http.MethodGet, "/offers/none", nil, nil, nil)
	if problem := (*problem)(nil); errors.As(err, &problem) && problem.status == http.StatusNotFound {
		return nil
	}
	if err == nil {
		err = errors.New("it has an offer that nobody brought")
	}
	return err
}

func (s *Store) about(ctx context.Context) (a outletapi.About, err error) {
	return a, s.door.call(ctx, http.MethodGet, outletapi.AboutPath, nil, nil, &a)
}

// Now implements Outlet.
func (s *Store) Now(ctx context.Context, o Offer) (publication.Standing, error) {
	now := publication.Standing{Out: []publication.Version{}}
	in, missing := said(o)
	if len(missing) > 0 {
		return now, nil // which Missing tells
	}
	var got outletapi.Standing
	where := at(outletapi.ChannelPath, "app", in.App, "channel", o.Channel)
	err := s.door.call(ctx, http.MethodGet, where, nil, nil, &got)
	if problem := (*problem)(nil); errors.As(err, &problem) && problem.status == http.StatusNotFound {
		return now, nil // nor does it know the app yet
	}
	if err != nil {
		return now, waiting(err)
	}
	now.Draft, now.Last = bounded(got.Draft), bounded(got.Last)
	for _, g := range got.Out[:min(len(got.Out), maxReasons)] {
		builds := map[string]version.BuildNumber{}
		if b, err := strconv.ParseInt(g.Build, 10, 64); err == nil {
			builds[o.Packages[0].Platform] = version.BuildNumber(b)
		}
		now.Out = append(now.Out, publication.Version{Name: bounded(g.Version), Builds: builds,
			Share: min(max(g.Share, 0), 100), Since: g.Since})
	}
	return now, nil
}

// said is an offer as the protocol says it, and what keeps it from being said.
func said(o Offer) (in outletapi.Offer, missing []publication.Missing) {
	in = outletapi.Offer{Version: o.Name, Channel: o.Channel, Share: o.Share, Hold: o.Hold, Notes: o.Notes}
	for _, p := range o.Packages {
		if in.App == "" {
			in.App = p.ID
		}
		if p.ID != in.App {
			missing = append(missing, publication.Missing{What: fmt.Sprintf("%s is of %s, and others are of %s", p.File, p.ID,
				in.App), Mend: "Have the outlet take only packages of one app: piston outlet set, with --takes."})
		}
		in.Packages = append(in.Packages, outletapi.Package{File: p.File, Kind: p.Kind, Build: p.Build, Size: p.Size,
			SHA256: p.SHA256, Signers: nonNil(p.Signers), Target: p.Target, Processors: nonNil(p.Processors)})
	}
	if len(o.Packages) == 0 {
		missing = append(missing, publication.Missing{What: "the release has no package that the outlet takes",
			Mend: "Build one of that kind, or let the outlet take others: piston outlet set, with --takes."})
	}
	return in, missing
}

func nonNil(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// Missing implements Outlet. Everything is told, what the outlet says after what can be told without it.
func (s *Store) Missing(ctx context.Context, o Offer) (list []publication.Missing, err error) {
	in, list := said(o)
	about, err := s.about(ctx)
	if err != nil {
		return nil, waiting(err)
	}
	for _, p := range o.Packages {
		if !slices.Contains(about.Takes, p.Kind) {
			list = append(list, publication.Missing{What: fmt.Sprintf("%s takes no package of the kind %s, which %s is",
				about.Name, p.Kind, p.File), Mend: "Name what it is to get: piston outlet set, with --takes " +
				strings.Join(about.Takes, " or ") + "."})
		}
	}
	if len(list) > 0 {
		return list, nil
	}
	var check outletapi.Check
	err = s.door.call(ctx, http.MethodPost, outletapi.ChecksPath, nil, in, &check)
	if problem := (*problem)(nil); errors.As(err, &problem) && problem.status == http.StatusUnprocessableEntity {
		for _, reason := range problem.reasons() { // it does not even understand what it is to check
			list = append(list, publication.Missing{What: reason, Mend: "The outlet says no more."})
		}
		return list, nil
	}
	if err != nil {
		return nil, waiting(err)
	}
	for _, m := range check.Missing {
		list = append(list, publication.Missing{What: bounded(m.What), Mend: bounded(m.Mend)})
	}
	return list, nil
}

// Bring implements Outlet.
func (s *Store) Bring(ctx context.Context, o Offer, sent func(int64)) (ref string, err error) {
	in, missing := said(o)
	if len(missing) > 0 {
		return "", &Refusal{[]string{missing[0].What}}
	}
	if s.news.URL != "" {
		err := s.door.call(ctx, http.MethodPut, outletapi.NewsPath, nil, s.news, nil)
		if problem := (*problem)(nil); err != nil && !errors.As(err, &problem) {
			return "", err
		} // and what tells no news is asked
	}
	var now outletapi.Status
	key := http.Header{outletapi.KeyHeader: {o.Key}}
	if err := s.door.call(ctx, http.MethodPost, outletapi.OffersPath, key, in, &now); err != nil {
		return "", refusing(err)
	}
	if now.ID == "" || len(now.ID) > maxText || bounded(now.ID) != now.ID {
		return "", &Away{Why: fmt.Errorf("it calls the offer %.60q, which is no name", now.ID)}
	}
	if now.Version != o.Name || now.Channel != o.Channel {
		return "", &Away{Why: fmt.Errorf("asked to take %s, it speaks of %.60q in channel %.60q", o.Name, now.Version,
			now.Channel)}
	}
	if now.State != outletapi.Awaited {
		sent(o.Size())
		return now.ID, nil // it was submitted before
	}
	var done int64
	for _, p := range o.Packages {
		i := slices.IndexFunc(now.Uploads, func(u outletapi.Upload) bool { return u.File == p.File })
		if i < 0 {
			return "", &Away{Why: fmt.Errorf("it does not say where %s is to be sent", p.File)}
		}
		err := s.door.upload(ctx, now.Uploads[i].URL, p, func(n int64) { sent(done + n) })
		if err != nil {
			return "", refusing(err)
		}
		done += p.Size
	}
	where := at(outletapi.SubmitPath, "id", now.ID)
	return now.ID, refusing(s.door.call(ctx, http.MethodPost, where, nil, nil, &now))
}

// refusing tells what an outlet does not take from what it cannot do just now.
func refusing(err error) error {
	if problem := (*problem)(nil); errors.As(err, &problem) {
		return &Refusal{problem.reasons()}
	}
	return err
}

// waiting makes of an answer that nobody expects something that is shown, and asked for again.
func waiting(err error) error {
	if problem := (*problem)(nil); errors.As(err, &problem) {
		return &Away{Why: err}
	}
	return err
}

// Sent implements Outlet.
func (s *Store) Sent(ctx context.Context, o Offer) (ref string, err error) {
	var list []outletapi.Status
	where := outletapi.OffersPath + "?key=" + url.QueryEscape(o.Key)
	if err := s.door.call(ctx, http.MethodGet, where, nil, nil, &list); err != nil || len(list) == 0 {
		return "", waiting(err)
	}
	return list[0].ID, nil
}

// states are the protocol's, and what they mean here.
var states = map[outletapi.State]publication.State{
	outletapi.Awaited: publication.Sending, outletapi.Processing: publication.Processing,
	outletapi.InReview: publication.InReview, outletapi.Accepted: publication.Accepted,
	outletapi.Shared: publication.Shared, outletapi.Out: publication.Out, outletapi.Halted: publication.Halted,
	outletapi.Refused: publication.Refused, outletapi.Withdrawn: publication.Withdrawn,
}

// Stands implements Outlet.
func (s *Store) Stands(ctx context.Context, ref string) (st publication.Stands, err error) {
	var now outletapi.Status
	again, err := s.door.ask(ctx, at(outletapi.OfferPath, "id", ref), &now)
	if problem := (*problem)(nil); errors.As(err, &problem) && problem.status == http.StatusNotFound {
		return st, &Away{Why: fmt.Errorf("it does not know %.60q any more, which it has taken", ref)}
	}
	if err != nil {
		return st, waiting(err)
	}
	state, known := states[now.State]
	switch {
	case !known:
		return st, &Away{Why: fmt.Errorf("it says that it is %.60q, which the outlet protocol does not know", now.State)}
	case now.ID != ref:
		return st, &Away{Why: fmt.Errorf("asked for %.60q it speaks of %.60q", ref, now.ID)}
	case now.Share < 0 || now.Share > 100:
		return st, &Away{Why: fmt.Errorf("it says that %d of a hundred people get it", now.Share)}
	}
	st = publication.Stands{State: state, Share: now.Share, Again: again}
	for _, r := range now.Reasons[:min(len(now.Reasons), maxReasons)] {
		st.Reasons = append(st.Reasons, bounded(r))
	}
	if state == publication.Refused && len(st.Reasons) == 0 {
		st.Reasons = []string{"it does not say why"}
	}
	for _, a := range now.Asks[:min(len(now.Asks), maxReasons)] {
		st.Asks = append(st.Asks, bounded(a.Question)+" "+bounded(a.Where))
	}
	return st, nil
}

// Share implements Outlet.
func (s *Store) Share(ctx context.Context, ref string, percent int) error {
	return refusing(s.door.call(ctx, http.MethodPut, at(outletapi.SharePath, "id", ref), nil,
		outletapi.Share{Percent: percent}, nil))
}

// Halt implements Outlet.
func (s *Store) Halt(ctx context.Context, ref string) error {
	return refusing(s.door.call(ctx, http.MethodPost, at(outletapi.HaltPath, "id", ref), nil, nil, nil))
}

// TakeBack implements Outlet.
func (s *Store) TakeBack(ctx context.Context, ref string) error {
	return refusing(s.door.call(ctx, http.MethodDelete, at(outletapi.OfferPath, "id", ref), nil, nil, nil))
}

// What is kept of what an outlet says.
const (
	maxReasons = 50
	maxText    = 500
	maxAgain   = time.Hour
)

// bounded is a text of an outlet, of at most maxText bytes.
func bounded(text string) string {
	if len(text) > 4*maxText {
		text = text[:4*maxText]
	}
	text = plain.Line(text)
	if len(text) > maxText {
		text = strings.ToValidUTF8(text[:maxText], "") + "…"
	}
	return text
}

// at fills in a path of the protocol.
func at(form string, names ...string) string {
	for i := 0; i < len(names); i += 2 {
		form = strings.ReplaceAll(form, "{"+names[i]+"}", url.PathEscape(names[i+1]))
	}
	return form
}
