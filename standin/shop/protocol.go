package shop

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/tus/tusd/v2/pkg/filestore"
	"github.com/tus/tusd/v2/pkg/handler"
	"github.com/tus/tusd/v2/pkg/memorylocker"
	"golang.org/x/exp/slog"

	"gentlepiston.example/piston/api/schematext"
	"gentlepiston.example/piston/core/fielddoc"
	"gentlepiston.example/piston/core/outletapi"
)

// newUploads takes packages by tus 1.0, and keeps them in a folder.
func newUploads(dir string) (*handler.UnroutedHandler, error) {
	composer := handler.NewStoreComposer()
	composer.UseCore(filestore.New(dir))
	memorylocker.New().UseIn(composer)
	return handler.NewUnroutedHandler(handler.Config{StoreComposer: composer, BasePath: uploadsPath,
		Logger: slog.New(slog.NewTextHandler(io.Discard, nil)), Cors: &handler.CorsConfig{Disable: true}})
}

const (
	uploadsPath = "/uploads/"
	maxPackage  = 4 << 30
	askAgain    = time.Second // Retry-After of what is under way
)

func uploadID(u outletapi.Upload) string { return path.Base(u.URL) }

// handler is all of a shop: its page for anybody, the protocol for its client.
func (s *Shop) handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("X-Stand-In", "store")
			next.ServeHTTP(w, r)
		})
	})
	desk{s}.register(r)
	r.Group(func(r chi.Router) {
		r.Use(s.failing)
		r.Post(outletapi.TokenPath, door{s}.token)
		s.protocol(r)
		sent := door{s}.onlyClient(http.StripPrefix(uploadsPath, s.tus.Middleware(http.HandlerFunc(
			func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodHead {
					s.tus.HeadFile(w, r)
					return
				}
				s.tus.PatchFile(w, r)
			}))))
		r.Method(http.MethodHead, uploadsPath+"{id}", sent)
		r.Method(http.MethodPatch, uploadsPath+"{id}", sent)
	})
	return r
}

// no is an answer that says no, and why.
type no struct {
	outletapi.Problem
	status int
}

// Error implements error.
func (n *no) Error() string { return n.Detail }

// GetStatus implements huma.StatusError.
func (n *no) GetStatus() int { return n.status }

func says(status int, detail string, reasons ...string) error {
	return &no{outletapi.Problem{Title: http.StatusText(status), Detail: detail, Reasons: reasons}, status}
}

// Describe writes the protocol down as OpenAPI 3.1.
func Describe() ([]byte, error) {
	s := &Shop{rules: machine{DefaultTarget}}
	document := s.protocol(chi.NewRouter()).OpenAPI()
	schematext.Describe(document.Components.Schemas, fielddoc.Read(outletapi.Source))
	return document.MarshalJSON()
}

// OfferID names an offer; exported, since only then can other inputs embed it.
type OfferID struct {
	ID string `path:"id" maxLength:"100"`
}

type (
	status struct {
		RetryAfter string `header:"Retry-After"`
		Body       outletapi.Status
	}
	channel struct {
		App     string `path:"app" maxLength:"255"`
		Channel string `path:"channel" maxLength:"100"`
	}
)

// protocol registers what the outlet protocol says.
func (s *Shop) protocol(r chi.Router) huma.API {
	huma.DefaultArrayNullable = false
	config := huma.DefaultConfig("Outlet protocol", strconv.Itoa(outletapi.Version))
	config.DocsPath, config.SchemasPath, config.CreateHooks = "", "", nil
	config.Info.Description = "How a release is brought to a store, or to an adapter of one. Errors are problem details " +
		"(RFC 9457). Packages are sent by tus 1.0.0 to the addresses that an offer names."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"client": {Type: "oauth2",
		Flows: &huma.OAuthFlows{ClientCredentials: &huma.OAuthFlow{TokenURL: outletapi.TokenPath,
			Scopes: map[string]string{}}}}}
	a := humachi.New(r, config)
	a.UseMiddleware(door{s}.guard(a))
	add(a, http.MethodGet, outletapi.AboutPath, "about", "What the outlet is; told to anybody", false,
		func(context.Context, *struct{}) (outletapi.About, error) {
			return s.about(), nil
		})
	add(a, http.MethodGet, outletapi.ChannelPath, "channel", "What stands in a channel", true, s.standing)
	add(a, http.MethodPost, outletapi.ChecksPath, "check", "Everything that is against an offer; nothing is changed", true,
		func(_ context.Context, in *struct{ Body outletapi.Offer }) (outletapi.Check, error) {
			s.mu.Lock()
			defer s.mu.Unlock()
			list := s.check(in.Body)
			return outletapi.Check{Missing: append([]outletapi.Missing{}, list...)}, nil
		})
	add(a, http.MethodPost, outletapi.OffersPath, "offer", "Offer a release; with the same key it is offered once", true,
		func(_ context.Context, in *struct {
			Key  string `header:"Idempotency-Key" required:"true" minLength:"1" maxLength:"100"`
			Body outletapi.Offer
		}) (outletapi.Status, error) {
			return s.offer(in.Key, in.Body)
		})
	add(a, http.MethodGet, outletapi.OffersPath, "offers", "Find what was offered by a key: one, or none", true,
		func(_ context.Context, in *struct {
			Key string `query:"key" required:"true" minLength:"1"`
		}) ([]outletapi.Status, error) {
			s.mu.Lock()
			defer s.mu.Unlock()
			list := []outletapi.Status{}
			if o := s.byKey(in.Key); o != nil {
				list = append(list, s.statusOf(o))
			}
			return list, nil
		})
	huma.Register(a, operation(http.MethodGet, outletapi.OfferPath, "status", "How an offer stands", true),
		func(_ context.Context, in *OfferID) (*status, error) {
			s.mu.Lock()
			defer s.mu.Unlock()
			o := s.find(in.ID)
			if o == nil {
				return nil, says(http.StatusNotFound, "there is no such offer")
			}
			out := &status{Body: s.statusOf(o)}
			if underWay(o.State) {
				out.RetryAfter = strconv.Itoa(int(askAgain / time.Second))
			}
			return out, nil
		})
	s.acts(a)
	return a
}

// acts registers what is done with an offer.
func (s *Shop) acts(a huma.API) {
	act := func(method, path, id, about string, do func(o *offer) error) {
		add(a, method, path, id, about, true, func(_ context.Context, in *OfferID) (outletapi.Status, error) {
			return s.with(in.ID, do)
		})
	}
	act(http.MethodPost, outletapi.SubmitPath, "submit", "Say that all packages were sent; also again", s.submit)
	act(http.MethodPost, outletapi.HaltPath, "halt", "Keep further people from getting it", func(o *offer) error {
		switch {
		case given(o.State):
			s.to(o, outletapi.Halted)
		case o.State != outletapi.Halted:
			return says(http.StatusConflict, "it is "+string(o.State)+", and nobody gets it")
		}
		return nil
	})
	act(http.MethodDelete, outletapi.OfferPath, "withdraw", "Take it away. What people have, they have",
		func(o *offer) error {
			if o.State != outletapi.Withdrawn {
				s.to(o, outletapi.Withdrawn)
			}
			return nil
		})
	add(a, http.MethodPut, outletapi.SharePath, "share", "Give it to so many of a hundred people, also what was halted",
		true, func(_ context.Context, in *struct {
			OfferID
			Body outletapi.Share
		}) (outletapi.Status, error) {
			return s.with(in.ID, func(o *offer) error { return s.share(o, in.Body.Percent) })
		})
	add(a, http.MethodPut, outletapi.NewsPath, "news", "Say where changes are to be told, by Standard Webhooks", true,
		func(_ context.Context, in *struct{ Body outletapi.News }) (outletapi.News, error) {
			return in.Body, s.change(func() error {
				s.kept.News = in.Body
				return nil
			})
		})
}

func operation(method, path, id, about string, guarded bool) huma.Operation {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: about}
	if guarded {
		op.Security = []map[string][]string{{"client": {}}}
	}
	return op
}

// add registers an operation that answers with a value.
func add[I, O any](a huma.API, method, path, id, about string, guarded bool,
	do func(context.Context, *I) (O, error)) {
	type answer struct{ Body O }
	huma.Register(a, operation(method, path, id, about, guarded), func(ctx context.Context, in *I) (*answer, error) {
		out, err := do(ctx, in)
		if err != nil {
			return nil, err
		}
		return &answer{out}, nil
	})
}

func (s *Shop) byKey(key string) *offer {
	i := slices.IndexFunc(s.kept.Offers, func(o *offer) bool { return o.Key == key })
	if i < 0 {
		return nil
	}
	return s.kept.Offers[i]
}

// statusOf is how an offer stands, as the protocol says it.
func (s *Shop) statusOf(o *offer) outletapi.Status {
	out := outletapi.Status{ID: o.ID, Version: o.Offer.Version, Channel: o.Offer.Channel, State: o.State, Share: o.Share,
		Reasons: append([]string{}, o.Reasons...), Asks: []outletapi.Ask{}, Uploads: slices.Clone(o.Uploads)}
	if o.State == outletapi.Processing && o.Looked && o.Asked && o.Answered == "" {
		out.Asks = append(out.Asks, outletapi.Ask{Question: "Does it use encryption of its own?",
			Where: s.base + "/#" + o.ID})
	}
	if o.State == outletapi.Awaited {
		for i, u := range out.Uploads {
			if info, err := os.Stat(filepath.Join(s.uploads(), uploadID(u))); err == nil {
				out.Uploads[i].Received = info.Size()
			}
		}
	}
	if s.faults.Lie != "" {
		out.State = outletapi.State(s.faults.Lie)
	}
	return out
}

// standing tells what stands in a channel.
func (s *Shop) standing(_ context.Context, in *channel) (out outletapi.Standing, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a := s.kept.Apps[in.App]
	if a == nil {
		return out, says(http.StatusNotFound, "there is no entry for it")
	}
	out = outletapi.Standing{Out: []outletapi.Given{},
		Draft: s.inTheWay(outletapi.Offer{App: in.App, Channel: in.Channel})}
	if a.Last > 0 && !s.People {
		out.Last = strconv.FormatInt(a.Last, 10)
	}
	for _, o := range slices.Backward(s.kept.Offers) {
		if o.Offer.App == in.App && o.Offer.Channel == in.Channel && given(o.State) {
			out.Out = append(out.Out, outletapi.Given{Version: o.Offer.Version, Build: o.Offer.Packages[0].Build,
				Share: o.Share, Since: o.Since})
		}
	}
	return out, nil
}

// offer takes an offer up, unless something is against it.
func (s *Shop) offer(key string, in outletapi.Offer) (out outletapi.Status, err error) {
	err = s.change(func() error {
		if o := s.byKey(key); o != nil {
			out = s.statusOf(o)
			return errNothing
		}
		var reasons []string
		for _, m := range s.check(in) {
			reasons = append(reasons, m.What+". "+m.Mend)
		}
		if len(reasons) > 0 {
			return says(http.StatusUnprocessableEntity, reasons[0], reasons...)
		}
		o := &offer{ID: rand.Text(), Key: key, Offer: in, Reasons: []string{}}
		for _, p := range in.Packages {
			if p.Size > maxPackage {
				return says(http.StatusUnprocessableEntity, p.File+" is too large")
			}
			id := rand.Text()
			_, err := filestore.New(s.uploads()).NewUpload(context.Background(), handler.FileInfo{ID: id, Size: p.Size})
			if err != nil {
				return err
			}
			o.Uploads = append(o.Uploads, outletapi.Upload{File: p.File, URL: s.base + uploadsPath + id})
		}
		s.to(o, outletapi.Awaited)
		s.kept.Offers = append(s.kept.Offers, o)
		out = s.statusOf(o)
		return nil
	})
	return out, answered(err)
}

// answered is an error as it is answered.
func answered(err error) error {
	if n := (*no)(nil); errors.As(err, &n) {
		return n
	}
	return err
}

// with does something with an offer.
func (s *Shop) with(id string, do func(o *offer) error) (out outletapi.Status, err error) {
	err = s.change(func() error {
		o := s.find(id)
		if o == nil {
			return says(http.StatusNotFound, "there is no such offer")
		}
		if err := do(o); err != nil {
			return err
		}
		out = s.statusOf(o)
		return nil
	})
	s.soon()
	return out, answered(err)
}

// submit goes on with an offer of which everything has come.
func (s *Shop) submit(o *offer) error {
	if o.State != outletapi.Awaited {
		return nil
	}
	for i, u := range s.statusOf(o).Uploads {
		if u.Received < o.Offer.Packages[i].Size {
			return says(http.StatusConflict, "not all of "+u.File+" has come")
		}
	}
	s.to(o, outletapi.Processing)
	return nil
}

func (s *Shop) share(o *offer, percent int) error {
	switch {
	case o.State != outletapi.Accepted && o.State != outletapi.Halted && !given(o.State):
		return says(http.StatusConflict, "it is "+string(o.State)+", and cannot be given out")
	case percent < o.Share:
		return says(http.StatusConflict, "more people than that have it: "+strconv.Itoa(o.Share)+" %")
	case percent == o.Share && given(o.State):
		return nil
	}
	s.give(o, percent)
	return nil
}
