package people

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Issuer is where people sign in by OpenID Connect (Core 1.0), with the code flow and PKCE (RFC 7636, S256).
type Issuer struct {
	Address      string // of the issuer; "" for none
	Name         string // what to call it
	ClientID     string
	ClientSecret string // "" for a public client
	GroupsClaim  string // claim of the ID token that lists groups
	Return       string // address of this service that the issuer sends people back to
}

// Errors of a sign-in at an issuer.
var (
	ErrIssuerAway = errors.New("the issuer cannot be reached just now; sign in by password, or try again later")
	ErrIssuer     = errors.New("the issuer's answer was not accepted")
)

// issuerPatience bounds what is asked of the issuer.
const issuerPatience = 8 * time.Second

// found remembers an issuer's description (OpenID Connect Discovery 1.0) for as long as the server lives: its keys are
// fetched again when one is missing.
type found struct {
	mu       sync.Mutex
	provider *oidc.Provider
}

func (s *People) hasIssuer() error {
	if s.issuer.Address == "" {
		return fmt.Errorf("this service has no issuer to sign in at: %w", ground.ErrNotFound)
	}
	return nil
}

func (s *People) provider(ctx context.Context) (*oidc.Provider, *oauth2.Config, error) {
	if err := s.hasIssuer(); err != nil {
		return nil, nil, err
	}
	s.discovered.mu.Lock()
	defer s.discovered.mu.Unlock()
	if s.discovered.provider == nil {
		// What is kept asks for keys later, so its context must not end with this request.
		p, err := oidc.NewProvider(oidc.ClientContext(s.Life, &http.Client{Timeout: issuerPatience}), s.issuer.Address)
		if err != nil {
			s.Log.Warn("the issuer cannot be asked", "issuer", s.issuer.Address, "error", err)
			return nil, nil, ErrIssuerAway
		}
		s.discovered.provider = p
	}
	p := s.discovered.provider
	return p, &oauth2.Config{ClientID: s.issuer.ClientID, ClientSecret: s.issuer.ClientSecret, Endpoint: p.Endpoint(),
		RedirectURL: s.issuer.Return,
		Scopes:      []string{oidc.ScopeOpenID, "profile", "email"}}, nil
}

// IssuerName is what the issuer is called; "" when there is none.
func (s *People) IssuerName() string {
	if s.issuer.Address == "" {
		return ""
	}
	if s.issuer.Name != "" {
		return s.issuer.Name
	}
	if u, err := url.Parse(s.issuer.Address); err == nil {
		return u.Host
	}
	return s.issuer.Address
}

// signingIn is what the browser keeps, sealed, while somebody is at the issuer.
type signingIn struct {
	State    string    `json:"state"`
	Nonce    string    `json:"nonce"`
	Verifier string    `json:"verifier"`
	Until    time.Time `json:"until"`
	Program  Loopback  `json:"program"` // that waits for the browser
}

// Arrival is what becomes of a browser that comes back from the issuer.
type Arrival struct {
	Entry
	To string // a program's address that the browser goes to, also when it was refused; "" when it has signed in itself
}

// signingInFor is how long somebody may take at the issuer.
const signingInFor = 10 * time.Minute

// BeginAtIssuer gives the address to send a browser to, and what it is to bring back, which only we can read.
func (s *People) BeginAtIssuer(ctx context.Context, program Loopback) (address string, kept []byte, err error) {
	if err := program.Check(); err != nil {
		return "", nil, err
	}
	_, config, err := s.provider(ctx)
	if err != nil {
		return "", nil, err
	}
	in := signingIn{rand.Text(), rand.Text(), oauth2.GenerateVerifier(), time.Now().Add(signingInFor), program}
	text, err := json.Marshal(in)
	if err != nil {
		return "", nil, err
	}
	kept, _, err = s.vault.Seal(text)
	return config.AuthCodeURL(in.State, oidc.Nonce(in.Nonce), oauth2.S256ChallengeOption(in.Verifier)), kept, err
}

// ReturnFromIssuer opens a session for whoever the issuer says is there, or lets the program do so that waits for them.
func (s *People) ReturnFromIssuer(ctx context.Context, kept []byte, state, code, address string) (Arrival, error) {
	if err := s.hasIssuer(); err != nil {
		return Arrival{}, err
	}
	var in signingIn
	text, err := s.vault.Open(kept)
	if err == nil {
		err = json.Unmarshal(text, &in)
	}
	if err != nil || in.State == "" || state != in.State || time.Now().After(in.Until) {
		return Arrival{}, fmt.Errorf("%w: it does not belong to a sign-in that this browser began in the last %d minutes; "+
			"begin again", ErrIssuer, int(signingInFor.Minutes()))
	}
	person, err := s.comesBack(ctx, in, code)
	if err != nil {
		return Arrival{To: in.Program.to("error", RefusalWord(err))}, err
	}
	if in.Program != (Loopback{}) {
		redeem, err := s.code(ctx, person, in.Program)
		return Arrival{To: in.Program.to("code", redeem)}, err
	}
	entry, err := s.enter(ctx, person, address, "", true)
	return Arrival{Entry: entry}, err
}

// RefusalWord is why somebody who comes back from the issuer is not let in, in a word.
func RefusalWord(err error) string {
	switch {
	case errors.Is(err, ErrIssuerAway):
		return "away"
	case errors.Is(err, ground.ErrForbidden):
		return "disabled"
	}
	return "refused"
}

// comesBack finds who it is that comes back from the issuer.
func (s *People) comesBack(ctx context.Context, in signingIn, code string) (person store.Person, err error) {
	provider, config, err := s.provider(ctx)
	if err != nil {
		return person, err
	}
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, &http.Client{Timeout: issuerPatience}), issuerPatience)
	defer cancel()
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(in.Verifier))
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused):
		return person, fmt.Errorf("%w: it refused the code (%s)", ErrIssuer, refused.ErrorCode)
	case err != nil:
		s.Log.Warn("the issuer cannot be asked", "issuer", s.issuer.Address, "error", err)
		return person, ErrIssuerAway
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := provider.Verifier(&oidc.Config{ClientID: s.issuer.ClientID}).Verify(ctx, raw)
	if err != nil {
		return person, fmt.Errorf("%w: %w", ErrIssuer, err)
	}
	if id.Nonce != in.Nonce {
		return person, fmt.Errorf("%w: the nonce is another", ErrIssuer)
	}
	if person, err = s.personAtIssuer(ctx, id); err != nil {
		return person, err
	}
	if person.Disabled {
		return person, ground.Refuse("%s may not sign in here; ask an administrator", person.Name)
	}
	return person, nil
}

// personAtIssuer finds or makes the person of an ID token, who is in the groups that it names.
func (s *People) personAtIssuer(ctx context.Context, id *oidc.IDToken) (person store.Person, err error) {
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return person, fmt.Errorf("%w: %w", ErrIssuer, err)
	}
	var groups []string
	if list, ok := claims[s.issuer.GroupsClaim].([]any); ok {
		for _, g := range list {
			if name, ok := g.(string); ok {
				groups = append(groups, name)
			}
		}
	}
	err = s.amongPeople(ctx, func(q ground.Q) error {
		person, err = q.PersonBySubject(ctx, id.Issuer, id.Subject)
		if errors.Is(err, store.ErrNotFound) {
			person, err = addFromIssuer(ctx, q, id, claims)
		}
		if err != nil {
			return err
		}
		if err := q.SetIssuerGroups(ctx, person.ID, groups); err != nil {
			return err
		}
		person, err = q.PersonBySubject(ctx, id.Issuer, id.Subject)
		return err
	})
	return person, err
}

var notOfNames = regexp.MustCompile(`[^a-z0-9._@-]+`)

// addFromIssuer adds somebody by the name the issuer gives them, or one made from it: a person who is here already is
// never taken for them because of a name.
func addFromIssuer(ctx context.Context, q ground.Q, id *oidc.IDToken, claims map[string]any) (store.Person, error) {
	base := ""
	for _, claim := range []string{"preferred_username", "email", "name", "sub"} {
		text, _ := claims[claim].(string)
		if base = strings.Trim(notOfNames.ReplaceAllString(strings.ToLower(text), "-"), "-._@"); base != "" {
			break
		}
	}
	if base == "" {
		base = "person"
	}
	base = base[:min(len(base), 80)]
	name := base
	for n := 2; ; n++ {
		if _, err := q.PersonByName(ctx, name); errors.Is(err, store.ErrNotFound) {
			break
		} else if err != nil {
			return store.Person{}, err
		}
		name = fmt.Sprintf("%s-%d", base, n)
	}
	if err := q.AddPerson(ctx, store.Person{Name: name, Issuer: id.Issuer, Subject: id.Subject}); err != nil {
		return store.Person{}, err
	}
	if err := q.Tell(ctx, fact.Fact{Kind: fact.PersonAdd, Subject: name,
		After: map[string]string{"issuer": id.Issuer, "subject": id.Subject}}); err != nil {
		return store.Person{}, err
	}
	return q.PersonByName(ctx, name)
}
