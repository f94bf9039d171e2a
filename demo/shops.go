package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/standin/shop"
)

// The outlets that are stand-ins of stores.
const (
	quayside = "quayside"     // where a machine looks
	lantern  = "lantern-hall" // where people look
)

// standIn is a stand-in of a store that is part of the demo.
type standIn struct {
	*shop.Shop
	at   string // its address
	port int
	stop func()
}

// openShops starts both, each where it was before.
func (s *Story) openShops(m *memory) error {
	s.shops = map[string]*standIn{}
	if m.ShopPorts == nil {
		m.ShopPorts = map[string]int{}
	}
	for name, o := range map[string]shop.Options{
		quayside: {Target: 29, Processing: time.Second / 2, Review: time.Second / 2},
		lantern:  {People: true, Processing: time.Second},
	} {
		o.Folder = filepath.Join(s.Folder, name)
		one, err := openShop(o, m.ShopPorts[name])
		if err != nil {
			s.closeShops()
			return fmt.Errorf("%s, a stand-in: %w", name, err)
		}
		s.shops[name] = one
		m.ShopPorts[name] = one.port
	}
	return nil
}

func openShop(o shop.Options, port int) (*standIn, error) {
	one, err := shop.Open(o)
	if err != nil {
		return nil, err
	}
	on, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return nil, err
	}
	at := "http://" + on.Addr().String()
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- one.Serve(ctx, on, at) }()
	return &standIn{one, at, on.Addr().(*net.TCPAddr).Port, func() {
		cancel()
		<-ended
	}}, nil
}

func (s *Story) closeShops() {
	for _, one := range s.shops {
		one.stop()
	}
}

// Shops tells where the pages of the stand-ins are.
func (s *Story) Shops() (quaysideAt, lanternAt string) {
	return s.shops[quayside].at, s.shops[lantern].at
}

// fill fills in a form of a stand-in's page.
func (o *standIn) fill(ctx context.Context, path string, fields url.Values) error {
	return post(ctx, o.at+path, "application/x-www-form-urlencoded", strings.NewReader(fields.Encode()))
}

func post(ctx context.Context, address, kind string, body io.Reader) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, body)
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", kind)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	text, err := io.ReadAll(io.LimitReader(res.Body, 1000))
	if err = errors.Join(err, res.Body.Close()); err == nil && res.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s answers %s: %s", address, res.Status, text)
	}
	return err
}

// addOutlets makes the entries at both stores that have to be made by hand, and the outlets; and adds testers.
func (s *Story) addOutlets(ctx context.Context) error {
	s.Tell("making outlets: two stores, both stand-ins, and a group of testers")
	const app = "net.tidewick.almanac"
	err := s.shops[quayside].fill(ctx, "/entries", url.Values{"app": {app}, "age": {"3"}, "countries": {"all"},
		"policy": {"https://tidewick.example/policy"}, "pictures": {"4"}})
	if err != nil {
		return err
	}
	err = s.shops[lantern].fill(ctx, "/entries", url.Values{"app": {app}, "category": {"the sea"}, "pictures": {"4"},
		"support": {"help@tidewick.example"}})
	if err != nil {
		return err
	}
	ends := time.Now().AddDate(0, 0, 20).UTC().Truncate(24 * time.Hour)
	for name, in := range map[string]api.NewOutlet{
		quayside:  {Takes: []string{"app-bundle"}},
		lantern:   {Takes: []string{"ipa"}, Expires: &ends},
		"testers": {Kind: "testers", Days: 30, Takes: []string{"apk", "ipa"}},
	} {
		if one := s.shops[name]; one != nil {
			in.Kind, in.URL, in.Client, in.Secret = "store", one.at, shop.Client, one.Secret()
		}
		in.Scope = ofReleases
		if _, err := s.Client.SetOutlet(ctx, Project, name, in); err != nil {
			return err
		}
	}
	_, err = s.Client.AddTesters(ctx, Project, api.NewTesters{Group: "friends",
		Addresses: []string{"mira@harbour.example", "jon@harbour.example", "oda@bounce.example"}})
	return err
}

// at waits until the last publication to an outlet is in a state.
func (s *Story) at(ctx context.Context, outlet string, wanted publication.State) (p api.Publication, err error) {
	ctx, cancel := context.WithTimeout(ctx, runsIn)
	defer cancel()
	for {
		page, err := s.Client.Publications(ctx, Project, api.PublicationFilter{Outlet: outlet, Limit: 1})
		if err != nil {
			return p, err
		}
		if len(page.Publications) == 1 {
			if p = page.Publications[0]; p.State == wanted && p.Wants == "" {
				s.Tell("  %s at %s: %s", p.Name, outlet, p.State)
				return p, nil
			}
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return p, fmt.Errorf("at %s it is %s, and not %s: %s", outlet, p.State, wanted, p.Trouble)
		}
	}
}

// firstAtTheStores is what becomes of the first release: one store has it out to a share, where a tester finds
// something and it is halted; at the other a person refuses it.
func (s *Story) firstAtTheStores(ctx context.Context) error {
	p, err := s.at(ctx, quayside, publication.Shared)
	if err != nil {
		return err
	}
	err = s.word(ctx, p, "The springs are right. But what is it called? On my screen it says Almanac, and of what?")
	if err != nil {
		return err
	}
	s.Tell("  wren halts it")
	if err := s.people["wren"].HaltPublication(ctx, Project, p.ID); err != nil {
		return err
	}
	if _, err := s.at(ctx, quayside, publication.Halted); err != nil {
		return err
	}
	return s.reviewed(ctx, url.Values{"word": {"refuse"},
		"reasons": {"The name does not say what it is: an almanac of what?"}}, publication.Refused)
}

// thenAtTheStores is what becomes of the mended one: out to all at both.
func (s *Story) thenAtTheStores(ctx context.Context) error {
	p, err := s.at(ctx, quayside, publication.Shared)
	if err != nil {
		return err
	}
	s.Tell("  wren gives it to all")
	if err := s.people["wren"].SharePublication(ctx, Project, p.ID, 100); err != nil {
		return err
	}
	if _, err := s.at(ctx, quayside, publication.Out); err != nil {
		return err
	}
	return s.reviewed(ctx, url.Values{"word": {"accept"}}, publication.Out)
}

// reviewed is the word of a person at the second store.
func (s *Story) reviewed(ctx context.Context, word url.Values, then publication.State) error {
	if _, err := s.at(ctx, lantern, publication.InReview); err != nil {
		return err
	}
	offer, err := s.shops[lantern].InReview()
	if err != nil {
		return err
	}
	word.Set("offer", offer)
	s.Tell("  a person at Lantern Hall: %s", word.Get("word"))
	if err := s.shops[lantern].fill(ctx, "/reviews", word); err != nil {
		return err
	}
	_, err = s.at(ctx, lantern, then)
	return err
}

// word is what a tester says of a release, on the page of their own, with a picture.
func (s *Story) word(ctx context.Context, p api.Publication, text string) error {
	list, err := s.Client.Testers(ctx, Project, api.TesterFilter{Contains: "mira@", Limit: 1})
	if err != nil {
		return err
	}
	tried, err := s.Client.Tried(ctx, Project, api.ReleasePath{App: p.App, Name: p.Name})
	if err != nil {
		return err
	}
	if len(list.Testers) == 0 || len(tried.Groups) == 0 {
		return errors.New("nobody tries it")
	}
	var body bytes.Buffer
	form := multipart.NewWriter(&body)
	err = form.WriteField("text", text)
	if err == nil {
		var file io.Writer
		if file, err = form.CreateFormFile("picture", "screen.png"); err == nil {
			err = png.Encode(file, screen())
		}
	}
	if err = errors.Join(err, form.Close()); err != nil {
		return err
	}
	s.Tell("  a tester: %s", text)
	at := fmt.Sprintf("%s/%d/words", list.Testers[0].Link, tried.Groups[0].ID)
	return post(ctx, at, form.FormDataContentType(), &body)
}

// screen is a picture of a small screen: the sea below a bar with a name that is cut short.
func screen() image.Image {
	i := image.NewRGBA(image.Rect(0, 0, 240, 420))
	for y := range 420 {
		for x := range 240 {
			c := color.RGBA{0xdc, 0xea, 0xec, 0xff}
			switch {
			case y < 40:
				c = color.RGBA{0x0f, 0x5e, 0x63, 0xff}
			case y > 260+(x%60-30)*(x%60-30)/90:
				c = color.RGBA{0x4c, 0x9a, 0xa0, 0xff}
			}
			if y > 14 && y < 26 && x > 16 && x < 110 {
				c = color.RGBA{0xff, 0xff, 0xff, 0xff}
			}
			i.SetRGBA(x, y, c)
		}
	}
	return i
}
