package shop

import (
	"crypto/subtle"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"gentlepiston.example/piston/core/outletapi"
)

// tokenLife is how long a token is good for.
const tokenLife = 10 * time.Minute

var errClient = errors.New("nobody is known by that")

// door lets the client in, and nobody else.
type door struct{ *Shop }

// token gives a token to the client (RFC 6749, section 4.4; RFC 7523, section 2.2).
func (s door) token(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	deny := func(status int, code string) {
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(map[string]string{"error": code})
	}
	if r.ParseForm() != nil || r.PostForm.Get("grant_type") != "client_credentials" {
		deny(http.StatusBadRequest, "unsupported_grant_type")
		return
	}
	if err := s.authenticate(r); err != nil {
		deny(http.StatusUnauthorized, "invalid_client")
		return
	}
	now := time.Now()
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.HS256, Key: s.key}, nil)
	text := ""
	if err == nil {
		text, err = jwt.Signed(signer).Claims(jwt.Claims{Subject: Client, Expiry: jwt.NewNumericDate(now.Add(tokenLife))}).
			Serialize()
	}
	if err != nil {
		deny(http.StatusInternalServerError, "server_error")
		return
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"access_token": text, "token_type": "Bearer",
		"expires_in": int(tokenLife / time.Second)})
}

// authenticate tells whether a request comes from the client: it knows the secret, or signs by a key that was let in.
func (s door) authenticate(r *http.Request) error {
	if id, secret, ok := r.BasicAuth(); ok {
		if id != Client || subtle.ConstantTimeCompare([]byte(secret), []byte(s.secret)) != 1 {
			return errClient
		}
		return nil
	}
	if r.PostForm.Get("client_assertion_type") != outletapi.AssertionFor {
		return errClient
	}
	t, err := jwt.ParseSigned(r.PostForm.Get("client_assertion"),
		[]jose.SignatureAlgorithm{jose.ES256, jose.RS256, jose.EdDSA})
	if err != nil {
		return err
	}
	s.mu.Lock()
	keys := s.kept.Keys
	s.mu.Unlock()
	for _, text := range keys {
		block, _ := pem.Decode([]byte(text))
		if block == nil {
			continue
		}
		key, err := x509.ParsePKIXPublicKey(block.Bytes)
		if err != nil {
			continue
		}
		var c jwt.Claims
		if t.Claims(key, &c) != nil {
			continue
		}
		return c.Validate(jwt.Expected{Issuer: Client, Subject: Client, Time: time.Now(),
			AnyAudience: jwt.Audience{s.base + outletapi.TokenPath}})
	}
	return errClient
}

// known tells whether what authorizes a request is a token that was given.
func (s door) known(authorization string) bool {
	text, ok := strings.CutPrefix(authorization, "Bearer ")
	t, err := jwt.ParseSigned(text, []jose.SignatureAlgorithm{jose.HS256})
	if err != nil || !ok {
		return false
	}
	var c jwt.Claims
	return t.Claims(s.key, &c) == nil && c.Validate(jwt.Expected{Subject: Client, Time: time.Now()}) == nil
}

// guard lets only the client do what is the client's.
func (s door) guard(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(c huma.Context, next func(huma.Context)) {
		if len(c.Operation().Security) > 0 && !s.known(c.Header("Authorization")) {
			_ = huma.WriteErr(a, c, http.StatusUnauthorized, "it takes a token of the client")
			return
		}
		next(c)
	}
}

func (s door) onlyClient(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !s.known(r.Header.Get("Authorization")) {
			http.Error(w, "it takes a token of the client", http.StatusUnauthorized)
			return
		}
		next.ServeHTTP(w, r)
	})
}
