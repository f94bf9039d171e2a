package client

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
)

// Browser is a sign-in that goes by somebody's browser (RFC 8252, section 7.3).
type Browser struct {
	Address  string // to open in it
	c        *Client
	verifier string
	listener net.Listener
	server   *http.Server
	answers  chan url.Values
}

// SignInByBrowser listens on loopback for the browser that comes back. Close ends it.
func (c *Client) SignInByBrowser(ctx context.Context) (*Browser, error) {
	var ways api.SignInWays
	if err := c.call(ctx, http.MethodGet, "/sign-in", nil, &ways); err != nil {
		return nil, err
	}
	if ways.Issuer == "" {
		return nil, fmt.Errorf("%s has no issuer where people sign in: sign in by name and password", c.Address)
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &Browser{c: c, verifier: rand.Text() + rand.Text(), listener: listener, answers: make(chan url.Values, 1)}
	sum := sha256.Sum256([]byte(b.verifier))
	b.Address = fmt.Sprintf("%s%s/session/issuer?port=%d&challenge=%s", strings.TrimSuffix(c.Address, "/"), prefix,
		listener.Addr().(*net.TCPAddr).Port, base64.RawURLEncoding.EncodeToString(sum[:]))
	b.server = &http.Server{Handler: http.HandlerFunc(b.arrive), ReadHeaderTimeout: 10 * time.Second,
		MaxHeaderBytes: 64 << 10}
	go func() { _ = b.server.Serve(listener) }()
	return b, nil
}

// Close stops listening.
func (b *Browser) Close() { _ = b.server.Close() }

// arrive takes what the service sends the browser with.
func (b *Browser) arrive(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if r.Method != http.MethodGet || r.URL.Path != "/" || q.Get("code") == "" && q.Get("error") == "" {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	text := "You are signed in. Close this page and go back to the terminal.\n"
	if q.Get("code") == "" {
		text = "You are not signed in; the terminal says why.\n"
	}
	_, _ = io.WriteString(w, text)
	b.Answer(q)
}

// Answer gives what a browser on another machine ended at. Only the first answer counts.
func (b *Browser) Answer(q url.Values) {
	select {
	case b.answers <- q:
	default:
	}
}

// Errors that the service sends a browser back with.
var refusals = map[string]string{"away": "the issuer cannot be reached just now",
	"disabled": "you may not sign in there; ask an administrator"}

// Wait waits for the browser and makes an API token of the given name, as SignIn does.
func (b *Browser) Wait(ctx context.Context, tokenName string) (issued api.IssuedToken, err error) {
	var q url.Values
	select {
	case q = <-b.answers:
	case <-ctx.Done():
		return issued, errors.New("nobody has signed in; begin again")
	}
	if word := q.Get("error"); word != "" {
		if text, known := refusals[word]; known {
			return issued, errors.New(text)
		}
		return issued, errors.New("the issuer's answer was not accepted; begin again")
	}
	s, err := b.c.openSession(ctx, "/session/issuer/redeem", api.Redeem{Code: q.Get("code"), Verifier: b.verifier})
	if err != nil {
		return issued, err
	}
	return s.tokenOfSession(ctx, tokenName)
}
