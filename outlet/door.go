package outlet

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"gentlepiston.example/piston/core/outletapi"
	"gentlepiston.example/piston/world"
)

// door is the way to a store over HTTP, by somebody who is authorized (OAuth 2.0, RFC 6749 section 4.4).
type door struct {
	base   *url.URL
	plain  *http.Client // without authorization
	client *http.Client
}

const (
	maxAnswer = 1 << 20 // bytes of an answer that are read
	callLimit = time.Minute
)

// Address checks where a store may be: what is said to it must not go in the open.
func Address(text string) (*url.URL, error) {
	u, err := world.Address(text, "an outlet")
	if err == nil && u.RawQuery != "" {
		return nil, fmt.Errorf("%.200q is no address of an outlet: it asks for something", text)
	}
	return u, err
}

func newDoor(s StoreSettings) (*door, error) {
	base, err := Address(s.URL)
	if err != nil {
		return nil, err
	}
	d := &door{base: base, plain: world.Speaker(base, s.Inside)}
	at := base.JoinPath(outletapi.TokenPath).String()
	config := clientcredentials.Config{ClientID: s.Client, ClientSecret: s.Secret, TokenURL: at,
		AuthStyle: oauth2.AuthStyleInHeader}
	if strings.HasPrefix(strings.TrimSpace(s.Secret), "-----BEGIN") {
		assertion, err := vouch(s.Client, s.Secret, at)
		if err != nil {
			return nil, err
		}
		config.ClientSecret, config.AuthStyle = "", oauth2.AuthStyleInParams
		config.EndpointParams = url.Values{"client_assertion_type": {outletapi.AssertionFor},
			"client_assertion": {assertion}}
	}
	d.client = config.Client(context.WithValue(context.Background(), oauth2.HTTPClient, d.plain))
	d.client.CheckRedirect = d.plain.CheckRedirect
	return d, nil
}

// vouch signs that a client is who it says (RFC 7523, section 3).
func vouch(client, secret, audience string) (string, error) {
	key, algorithm, err := privateKey(secret)
	if err != nil {
		return "", err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: algorithm, Key: key}, nil)
	if err != nil {
		return "", err
	}
	now := time.Now()
	return jwt.Signed(signer).Claims(jwt.Claims{Issuer: client, Subject: client, Audience: jwt.Audience{audience},
		ID: rand.Text(), IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(5 * time.Minute)),
	}).Serialize()
}

// privateKey reads a key as PEM (PKCS #8, RFC 5958), and tells by which algorithm it signs.
func privateKey(text string) (key crypto.PrivateKey, algorithm jose.SignatureAlgorithm, err error) {
	block, _ := pem.Decode([]byte(strings.TrimSpace(text) + "\n"))
	if block == nil || block.Type != "PRIVATE KEY" {
		return nil, "", errors.New("the key of the outlet's client is no unencrypted PRIVATE KEY in PEM (PKCS #8)")
	}
	if key, err = x509.ParsePKCS8PrivateKey(block.Bytes); err != nil {
		return nil, "", fmt.Errorf("the key of the outlet's client: %w", err)
	}
	switch k := key.(type) {
	case *ecdsa.PrivateKey:
		if k.Curve.Params().BitSize == 256 {
			return key, jose.ES256, nil
		}
	case *rsa.PrivateKey:
		return key, jose.RS256, nil
	case ed25519.PrivateKey:
		return key, jose.EdDSA, nil
	}
	return nil, "", errors.New("the key of the outlet's client is of no kind that is signed with: P-256, RSA or Ed25519")
}

// CheckSecret refuses a client's secret by which nothing could be said.
func CheckSecret(secret string) error {
	if strings.HasPrefix(strings.TrimSpace(secret), "-----BEGIN") {
		_, _, err := privateKey(secret)
		return err
	}
	if len(secret) > 4096 || strings.ContainsFunc(secret, func(r rune) bool { return r < ' ' || r > '~' }) {
		return errors.New("the secret of the outlet's client has characters that none has, or is longer than 4096 bytes")
	}
	return nil
}

// problem is that an outlet understood, and says no.
type problem struct {
	status int
	said   outletapi.Problem
}

// Error implements error.
func (p *problem) Error() string { return strings.Join(p.reasons(), "; ") }

func (p *problem) reasons() (list []string) {
	for _, r := range p.said.Reasons[:min(len(p.said.Reasons), maxReasons)] {
		list = append(list, bounded(r))
	}
	if text := bounded(p.said.Detail); len(list) == 0 && text != "" {
		list = []string{text}
	}
	if len(list) == 0 {
		list = []string{fmt.Sprintf("it answers %d %s", p.status, bounded(p.said.Title))}
	}
	return list
}

// ask asks for something, and tells how long the outlet wants to be left alone afterwards.
func (d *door) ask(ctx context.Context, at string, into any) (again time.Duration, err error) {
	return d.exchange(ctx, http.MethodGet, at, nil, nil, into)
}

// call says something to the outlet, and reads what it answers into into, unless that is nil.
func (d *door) call(ctx context.Context, method, at string, header http.Header, say, into any) error {
	_, err := d.exchange(ctx, method, at, header, say, into)
	return err
}

func (d *door) exchange(ctx context.Context, method, at string, header http.Header, say, into any) (
	again time.Duration, err error) {
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	var body io.Reader
	if say != nil {
		text, err := json.Marshal(say)
		if err != nil {
			return 0, err
		}
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, d.base.String()+at, body)
	if err != nil {
		return 0, err
	}
	if say != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for k, v := range header {
		req.Header[k] = v
	}
	res, err := d.do(req)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer+1))
	if err != nil {
		return 0, &Away{Why: err}
	}
	if into != nil {
		if len(text) > maxAnswer {
			return 0, &Away{Why: fmt.Errorf("it answers with more than %d bytes", maxAnswer)}
		}
		if err := json.Unmarshal(text, into); err != nil {
			return 0, &Away{Why: fmt.Errorf("it answers %s to %s, which is not what the outlet protocol says: %w", res.Status,
				at, err)}
		}
	}
	return retryAfter(res), nil
}

// do makes a request. Its error is an Away, or a problem when the outlet has understood and says no.
func (d *door) do(req *http.Request) (*http.Response, error) {
	client := d.client
	if req.URL.Path == d.base.Path+outletapi.AboutPath {
		client = d.plain // that is told to anybody
	}
	res, err := client.Do(req)
	if denied := (*oauth2.RetrieveError)(nil); errors.As(err, &denied) {
		return nil, deniedBy(denied)
	}
	if err != nil {
		return nil, &Away{Why: err}
	}
	if res.StatusCode < 300 {
		return res, nil
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusTooManyRequests || res.StatusCode >= 500 || res.StatusCode < 400 {
		return nil, &Away{After: retryAfter(res), Why: errors.New("it answers " + res.Status)}
	}
	if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden {
		return nil, &Away{Why: fmt.Errorf("it answers %s: is the client's secret still right? piston outlet set changes it",
			res.Status)}
	}
	p := &problem{status: res.StatusCode}
	text, _ := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	_ = json.Unmarshal(text, &p.said) // what is no problem of RFC 9457 has its status to tell
	return nil, p
}

// deniedBy is what it means that a token was not given.
func deniedBy(denied *oauth2.RetrieveError) error {
	status := 0
	if denied.Response != nil {
		status = denied.Response.StatusCode
	}
	if status == http.StatusTooManyRequests || status >= 500 {
		return &Away{After: retryAfter(denied.Response), Why: fmt.Errorf("it answers %d when asked for a token", status)}
	}
	return &Away{Why: fmt.Errorf("it gives no token (%d %s): is the client's secret still right? piston outlet set "+
		"changes it", status, bounded(denied.ErrorCode))}
}

// retryAfter reads how long to wait (RFC 9110, section 10.2.3), within an hour.
func retryAfter(res *http.Response) time.Duration {
	text := res.Header.Get("Retry-After")
	if text == "" {
		return 0
	}
	var d time.Duration
	if n, err := strconv.Atoi(text); err == nil {
		d = time.Duration(min(max(n, 0), int(maxAgain/time.Second))) * time.Second
	} else if at, err := http.ParseTime(text); err == nil {
		d = time.Until(at)
	}
	return min(max(d, 0), maxAgain)
}
