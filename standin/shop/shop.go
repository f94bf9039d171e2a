// Package shop has two stand-ins of stores, which speak the outlet protocol and behave as the two worlds that stores
// are: one where a machine looks at what is brought, and one where people do. They give nothing to anybody, say so, and
// have a page on which is done what is done by hand at a store.
package shop

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/tus/tusd/v2/pkg/handler"

	"gentlepiston.example/piston/core/outletapi"
	"gentlepiston.example/piston/disk"
)

// Options say how a shop behaves.
type Options struct {
	Name   string
	Folder string   // all it knows is there, so that it may be killed
	People bool     // people look at what is brought, and not a machine
	Secret string   // of its only client; "" makes one
	Target int      // the level of Android's interface for which a package has to be made at least; 0: DefaultTarget
	Takes  []string // kinds of packages; none: those of its kind of store
	// How long it works on a package, and how long a machine looks at it.
	Processing, Review time.Duration
}

// DefaultTarget is the lowest level of Android's interface that a shop takes.
const DefaultTarget = 34

// Client is the id of a shop's only client.
const Client = "piston"

// Shop is a stand-in of a store.
type Shop struct {
	Options
	base   string // its address
	secret string
	key    []byte // by which tokens are signed
	rules  rules
	tus    *handler.UnroutedHandler
	mu     sync.Mutex
	kept   kept
	faults Faults
	wake   chan struct{}
}

// kept is all that a shop knows, but for the packages themselves.
type kept struct {
	Secret   string           `json:"secret"`
	TokenKey []byte           `json:"token_key"`
	Keys     []string         `json:"keys"` // of the client, public, as PEM
	Apps     map[string]*app  `json:"apps"` // by their id
	Offers   []*offer         `json:"offers"`
	News     outletapi.News   `json:"news"`
	Untold   []outletapi.Told `json:"untold"`
}

// app is an entry of a shop.
type app struct {
	ID     string            `json:"id"`
	Form   map[string]string `json:"form"`   // what its page asks for
	Signer string            `json:"signer"` // of the first package
	Last   int64             `json:"last"`   // build number
	Drafts map[string]string `json:"drafts"` // begun by hand, by the channel
}

// offer is what was brought, or is on its way.
type offer struct {
	ID       string             `json:"id"`
	Key      string             `json:"key"`
	Offer    outletapi.Offer    `json:"offer"`
	State    outletapi.State    `json:"state"`
	Share    int                `json:"share"`
	Reasons  []string           `json:"reasons"`
	Since    time.Time          `json:"since"`    // it is in that state
	Asked    bool               `json:"asked"`    // whether encryption is to be answered
	Answered string             `json:"answered"` // what was answered
	Looked   bool               `json:"looked"`   // whether its packages were looked into
	Uploads  []outletapi.Upload `json:"uploads"`
}

// Open opens a shop, and makes it when there is none in its folder.
func Open(o Options) (*Shop, error) {
	s := &Shop{Options: o, rules: machine{cmp.Or(o.Target, DefaultTarget)}, wake: make(chan struct{}, 1)}
	if o.People {
		s.rules = people{}
	}
	if err := os.MkdirAll(s.uploads(), 0o700); err != nil {
		return nil, err
	}
	if err := s.load(); err != nil {
		return nil, err
	}
	if s.kept.TokenKey == nil {
		s.kept = kept{Secret: cmp.Or(o.Secret, rand.Text()), TokenKey: []byte(rand.Text() + rand.Text()),
			Apps: map[string]*app{}}
		if err := s.save(); err != nil {
			return nil, err
		}
	}
	s.secret, s.key = s.kept.Secret, s.kept.TokenKey
	var err error
	s.tus, err = newUploads(s.uploads())
	return s, err
}

func (s *Shop) file() string    { return filepath.Join(s.Folder, "shop.json") }
func (s *Shop) uploads() string { return filepath.Join(s.Folder, "packages") }

// Secret is that of the only client.
func (s *Shop) Secret() string { return s.secret }

// Allow lets the client in by a key of its own, too: public, as PEM.
func (s *Shop) Allow(key string) error {
	return s.change(func() error {
		s.kept.Keys = append(s.kept.Keys, key)
		return nil
	})
}

func (s *Shop) load() error {
	text, err := os.ReadFile(s.file())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	s.kept = kept{}
	if err == nil {
		err = json.Unmarshal(text, &s.kept)
	}
	if err != nil {
		return fmt.Errorf("what the stand-in knew is lost: %w", err)
	}
	return nil
}

func (s *Shop) save() error {
	text, err := json.MarshalIndent(s.kept, "", "  ")
	if err != nil {
		return err
	}
	return disk.WriteOwn(s.file(), text)
}

// change changes what is known, wholly or not at all.
func (s *Shop) change(do func() error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	err := do()
	if errors.Is(err, errNothing) {
		return nil
	}
	if err == nil {
		err = s.save()
	}
	if err != nil {
		return errors.Join(err, s.load())
	}
	return nil
}

// errNothing says that nothing was changed.
var errNothing = errors.New("nothing has changed")

// Serve serves a shop until ctx ends. address is the one by which it is reached.
func (s *Shop) Serve(ctx context.Context, on net.Listener, address string) error {
	s.base = address
	server := &http.Server{Handler: s.handler(), ReadHeaderTimeout: 10 * time.Second}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(on) }()
	works, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.work(works)
	}()
	var err error
	select {
	case <-ctx.Done():
	case err = <-ended:
	}
	stop()
	_ = server.Close()
	<-done
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return err
}

// workEvery is how often a shop looks whether time has come for something.
const workEvery = 100 * time.Millisecond

// work does what a shop does by itself.
func (s *Shop) work(ctx context.Context) {
	tick := time.NewTicker(workEvery)
	defer tick.Stop()
	for {
		for _, id := range s.unlooked() {
			s.lookInto(ctx, id)
		}
		_ = s.change(func() error { // what cannot be written is done at the next tick
			moved := false
			for _, o := range s.kept.Offers {
				moved = s.advance(o) || moved
			}
			if !moved {
				return errNothing
			}
			return nil
		})
		s.tell(ctx)
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-s.wake:
		}
	}
}

// soon has the shop look now whether there is something to do.
func (s *Shop) soon() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// to moves an offer into a state, which is told.
func (s *Shop) to(o *offer, state outletapi.State) {
	o.State, o.Since = state, time.Now().UTC()
	t := outletapi.Told{Type: "offer.changed", Timestamp: o.Since}
	t.Data.Offer = o.ID
	if s.kept.News.URL != "" {
		s.kept.Untold = append(s.kept.Untold, t)
	}
}

// give gives an offer to a share of people; the channel's earlier ones end when it goes to all.
func (s *Shop) give(o *offer, share int) {
	o.Share = share
	if share < 100 {
		s.to(o, outletapi.Shared)
		return
	}
	s.to(o, outletapi.Out)
	for _, other := range s.kept.Offers {
		if other != o && other.Offer.App == o.Offer.App && other.Offer.Channel == o.Offer.Channel && given(other.State) {
			s.to(other, outletapi.Halted)
		}
	}
}

func given(s outletapi.State) bool { return s == outletapi.Shared || s == outletapi.Out }

func underWay(s outletapi.State) bool {
	return s == outletapi.Awaited || s == outletapi.Processing || s == outletapi.InReview || s == outletapi.Accepted
}

// advance moves an offer on when its time has come.
func (s *Shop) advance(o *offer) bool {
	was := o.State
	waited := time.Since(o.Since)
	switch o.State {
	case outletapi.Processing:
		if o.Looked && !(o.Asked && o.Answered == "") {
			s.to(o, outletapi.InReview)
		}
	case outletapi.InReview:
		if (s.Review > 0 || !s.People) && waited >= s.Review { // people who are given no time take theirs
			s.accept(o)
		}
	}
	return o.State != was
}

// accept accepts an offer, and gives it out unless that is to wait.
func (s *Shop) accept(o *offer) {
	if s.to(o, outletapi.Accepted); !o.Offer.Hold {
		s.give(o, o.Offer.Share)
	}
}

func (s *Shop) find(id string) *offer {
	i := slices.IndexFunc(s.kept.Offers, func(o *offer) bool { return o.ID == id })
	if i < 0 {
		return nil
	}
	return s.kept.Offers[i]
}
