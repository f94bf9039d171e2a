package outlet

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/core/outletapi"
	"gentlepiston.example/piston/core/publication"
)

// Checked is what one check of an outlet's conduct found.
type Checked struct {
	What string `json:"what"`
	// Why it failed; "" when it did not.
	Why string `json:"why,omitempty"`
	// That it could not be made, since one before it failed, or it did not come so far.
	Skipped bool `json:"skipped,omitempty"`
}

// checkWithin is how long an outlet that is being checked may work on a package.
const checkWithin = 2 * time.Minute

// conformance is a check of an outlet that is there for trying.
type conformance struct {
	*Store
	s     StoreSettings
	offer Offer
	ref   string
	tell  func(Checked)
}

// Check holds what an outlet does against the outlet protocol, by bringing it a package; docs/outlet-protocol.md says
// what is checked. What was brought is withdrawn. tell is told of each check; the answer is whether all were met.
func Check(ctx context.Context, s StoreSettings, o Offer, tell func(Checked)) (met bool, err error) {
	st, err := OpenStore(s)
	if err != nil {
		return false, err
	}
	o.Key = "check-" + rand.Text()
	c := &conformance{st, s, o, "", tell}
	met = true
	for _, one := range []struct {
		what  string
		needs bool // what follows cannot be made without it
		do    func(ctx context.Context) error
	}{
		{"it says what it is, and speaks version 1", true, c.says},
		{"who is not the client is not let in", false, c.letsIn},
		{"the client is let in", true, st.Try},
		{"a check tells what is against an offer, and changes nothing", true, c.checks},
		{"the same key is the same offer", true, c.offersOnce},
		{"a sending that was cut goes on where it was", true, c.resumes},
		{"what is not all there cannot be submitted, and what is can be, twice", true, c.submits},
		{"an offer is found by its key", false, c.finds},
		{"the states come in order, and a refusal has reasons", true, c.comes},
		{"a share is never made smaller", false, c.shares},
		{"what is withdrawn stays so, and withdrawing it again does no harm", false, c.withdraws},
	} {
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		err := one.do(ctx)
		told := Checked{What: one.what}
		if errors.Is(err, errUnchecked) {
			told.Skipped, err = true, nil
		}
		if err != nil {
			met, told.Why = false, err.Error()
		}
		tell(told)
		if err != nil && one.needs {
			tell(Checked{What: "what comes after it", Skipped: true})
			break
		}
	}
	if c.ref != "" {
		_ = c.TakeBack(context.WithoutCancel(ctx), c.ref) // which a check has done, or could not
	}
	return met, nil
}

func (c *conformance) says(ctx context.Context) error {
	about, err := c.about(ctx)
	switch {
	case err != nil:
		return err
	case about.Protocol != outletapi.Version:
		return fmt.Errorf("it speaks version %d", about.Protocol)
	case about.Name == "" || len(about.Takes) == 0 || len(about.Channels) == 0:
		return errors.New("it leaves out its name, what it takes, or its channels")
	case !slices.Contains(about.Channels, c.offer.Channel):
		return fmt.Errorf("it has no channel %s, but %s", c.offer.Channel, strings.Join(about.Channels, ", "))
	}
	return nil
}

func (c *conformance) letsIn(ctx context.Context) error {
	stranger := c.s
	stranger.Secret = "not-" + rand.Text()
	st, err := OpenStore(stranger)
	if err == nil {
		err = st.Try(ctx)
	}
	if err == nil {
		return errors.New("it lets in who has a wrong secret")
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.door.base.String()+"/offers/none", nil)
	if err != nil {
		return err
	}
	res, err := c.door.plain.Do(req)
	if err != nil {
		return err
	}
	_ = res.Body.Close()
	if res.StatusCode != http.StatusUnauthorized {
		return fmt.Errorf("without a token it answers %s, and not 401", res.Status)
	}
	return nil
}

func (c *conformance) checks(ctx context.Context) error {
	for range 2 {
		missing, err := c.Missing(ctx, c.offer)
		if err != nil {
			return err
		}
		if len(missing) > 0 {
			return fmt.Errorf("it would not take the package: %s", strings.Join(whatOf(missing), "; "))
		}
	}
	elsewhere := c.offer
	elsewhere.Channel = "no-such-channel"
	missing, err := c.Missing(ctx, elsewhere)
	if err == nil && len(missing) == 0 {
		err = errors.New("it would take something into a channel that it does not have")
	}
	return err
}

func whatOf(missing []publication.Missing) (list []string) {
	for _, m := range missing {
		list = append(list, m.What)
	}
	return list
}

func (c *conformance) offered(ctx context.Context) (now outletapi.Status, err error) {
	in, _ := said(c.offer)
	key := http.Header{outletapi.KeyHeader: {c.offer.Key}}
	return now, c.door.call(ctx, http.MethodPost, outletapi.OffersPath, key, in, &now)
}

func (c *conformance) offersOnce(ctx context.Context) error {
	first, err := c.offered(ctx)
	if err != nil {
		return err
	}
	c.ref = first.ID
	second, err := c.offered(ctx)
	switch {
	case err != nil:
		return err
	case first.ID == "" || first.ID != second.ID:
		return fmt.Errorf("it is %q, and %q the second time", first.ID, second.ID)
	case first.State != outletapi.Awaited || len(first.Uploads) != len(c.offer.Packages):
		return fmt.Errorf("it is %s, with %d addresses for %d packages", first.State, len(first.Uploads),
			len(c.offer.Packages))
	}
	return nil
}

// resumes sends half of each package, and then the rest.
func (c *conformance) resumes(ctx context.Context) error {
	now, err := c.offered(ctx)
	if err != nil {
		return err
	}
	for i, p := range c.offer.Packages {
		u, err := c.door.base.Parse(now.Uploads[i].URL)
		if err != nil {
			return err
		}
		half := p
		half.Open = func(ctx context.Context, from int64) (io.ReadCloser, error) {
			in, err := p.Open(ctx, from)
			if err != nil {
				return nil, err
			}
			return struct {
				io.Reader
				io.Closer
			}{io.LimitReader(in, p.Size/2), in}, nil
		}
		_ = c.door.patch(ctx, u, half, 0, func(int64) {}) // which is cut
		offset, err := c.door.offset(ctx, u, p)
		if err != nil {
			return err
		}
		if offset == p.Size {
			return fmt.Errorf("it says that all of %s has come, of which half was sent", p.File)
		}
	}
	if c.door.call(ctx, http.MethodPost, at(outletapi.SubmitPath, "id", c.ref), nil, nil, nil) == nil {
		return errors.New("it takes for whole what is not")
	}
	return nil
}

func (c *conformance) submits(ctx context.Context) error {
	for range 2 {
		ref, err := c.Bring(ctx, c.offer, func(int64) {})
		if err != nil {
			return err
		}
		if ref != c.ref {
			return fmt.Errorf("it is %q all at once", ref)
		}
	}
	return nil
}

func (c *conformance) finds(ctx context.Context) error {
	ref, err := c.Sent(ctx, c.offer)
	if err == nil && ref != c.ref {
		err = fmt.Errorf("by its key %q is found", ref)
	}
	return err
}

// errUnchecked says that a check could not be made.
var errUnchecked = errors.New("it was not checked")

// inOrder are the states in the order in which an offer goes through them.
var inOrder = []publication.State{publication.Sending, publication.Processing, publication.InReview,
	publication.Accepted, publication.Shared, publication.Out}

func (c *conformance) comes(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, checkWithin)
	defer cancel()
	last := 0
	for {
		now, err := c.Stands(ctx, c.ref)
		if err != nil {
			return err
		}
		switch i := slices.Index(inOrder, now.State); {
		case now.State == publication.Refused:
			return fmt.Errorf("it refuses the package: %s", strings.Join(now.Reasons, "; "))
		case i < 0 || i < last:
			return fmt.Errorf("after %s it is %s", inOrder[last], now.State)
		case now.State.Given() || now.State == publication.Accepted || now.State == publication.InReview || len(now.Asks) > 0:
			return nil // what people do next takes its time
		default:
			last = i
		}
		select {
		case <-time.After(max(now.Again, time.Second/5)):
		case <-ctx.Done():
			return fmt.Errorf("it is %s for %s", now.State, checkWithin)
		}
	}
}

func (c *conformance) shares(ctx context.Context) error {
	now, err := c.Stands(ctx, c.ref)
	if err != nil {
		return err
	}
	if !now.State.Given() || now.Share < 2 {
		return errUnchecked // it is not out yet
	}
	if c.Share(ctx, c.ref, now.Share-1) == nil {
		return fmt.Errorf("it takes it from some of the %d %% who have it", now.Share)
	}
	return nil
}

func (c *conformance) withdraws(ctx context.Context) error {
	for range 2 {
		if err := c.TakeBack(ctx, c.ref); err != nil {
			return err
		}
	}
	now, err := c.Stands(ctx, c.ref)
	if err == nil && now.State != publication.Withdrawn {
		err = fmt.Errorf("it is %s", now.State)
	}
	return err
}
