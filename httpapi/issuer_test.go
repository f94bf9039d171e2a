package httpapi

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/people"
)

// issuer is a small OpenID Connect issuer: it signs anybody in who comes, as whoever the test says, and asks for PKCE.
type issuer struct {
	*httptest.Server
	key    *rsa.PrivateKey
	claims map[string]any // of the next ID token, besides those it must have
	asked  url.Values     // of the last authorisation request
}

func newIssuer(t *testing.T) *issuer {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	i := &issuer{key: key}
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, status int, v any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, 200, map[string]any{"issuer": i.URL, "authorization_endpoint": i.URL + "/authorize", "token_endpoint": i.URL + "/token", "jwks_uri": i.URL + "/keys",
			"id_token_signing_alg_values_supported": []string{"RS256"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, 200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "k1", Algorithm: "RS256", Use: "sig"}}})
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		_ = r.ParseForm()
		sum := sha256.Sum256([]byte(r.PostForm.Get("code_verifier")))
		if r.PostForm.Get("code") != "the-code" || base64.RawURLEncoding.EncodeToString(sum[:]) != i.asked.Get("code_challenge") || i.asked.Get("code_challenge_method") != "S256" {
			answer(w, 400, map[string]string{"error": "invalid_grant"})
			return
		}
		answer(w, 200, map[string]any{"access_token": "a", "token_type": "Bearer", "id_token": i.token(t)})
	})
	i.Server = httptest.NewServer(mux)
	t.Cleanup(i.Close)
	return i
}

func (i *issuer) token(t *testing.T) string {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: i.key, KeyID: "k1"}}, nil)
	require.NoError(t, err)
	claims := map[string]any{"iss": i.URL, "aud": "piston", "exp": time.Now().Add(time.Minute).Unix(), "iat": time.Now().Unix(), "nonce": i.asked.Get("nonce")}
	for k, v := range i.claims {
		claims[k] = v
	}
	text, err := jwt.Signed(signer).Claims(claims).Serialize()
	require.NoError(t, err)
	return text
}

// come is a browser that goes to the issuer and back. alter changes the request with which it comes back.
func (y *yard) come(t *testing.T, i *issuer, alter func(q url.Values, cookies map[string]string)) *httptest.ResponseRecorder {
	t.Helper()
	return y.comeBy(t, i, "/api/v1/session/issuer", alter)
}

func (y *yard) comeBy(t *testing.T, i *issuer, path string, alter func(q url.Values, cookies map[string]string)) *httptest.ResponseRecorder {
	t.Helper()
	res := httptest.NewRecorder()
	y.handler.ServeHTTP(res, httptest.NewRequest("GET", path, nil))
	require.Equal(t, http.StatusFound, res.Code, res.Body)
	to, err := url.Parse(res.Header().Get("Location"))
	require.NoError(t, err)
	i.asked = to.Query()
	assert.Equal(t, "http://piston.example/return", i.asked.Get("redirect_uri"))
	cookies := map[string]string{}
	for _, c := range res.Result().Cookies() {
		assert.True(t, c.HttpOnly)
		assert.NotContains(t, c.Value, i.asked.Get("state"), "what the browser keeps is sealed")
		cookies[c.Name] = c.Value
	}
	q := url.Values{"state": {i.asked.Get("state")}, "code": {"the-code"}}
	if alter != nil {
		alter(q, cookies)
	}
	r := httptest.NewRequest("GET", "/api/v1/session/issuer/return?"+q.Encode(), nil)
	for name, value := range cookies {
		r.AddCookie(&http.Cookie{Name: name, Value: value})
	}
	res = httptest.NewRecorder()
	y.handler.ServeHTTP(res, r)
	return res
}

func (y *yard) meOf(t *testing.T, res *httptest.ResponseRecorder) (me api.Me) {
	t.Helper()
	r := httptest.NewRequest("GET", "/api/v1/session", nil)
	for _, c := range res.Result().Cookies() {
		r.AddCookie(c)
	}
	w := httptest.NewRecorder()
	y.handler.ServeHTTP(w, r)
	require.Equal(t, 200, w.Code, w.Body)
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &me))
	return me
}

func TestSigningInAtAnIssuer(t *testing.T) {
	i := newIssuer(t)
	y := newYard(t, people.Issuer{Address: i.URL, ClientID: "piston", GroupsClaim: "groups", Return: "http://piston.example/return"})
	_, err := y.s.People.SetGroup(ground.AsItself(t.Context()), "mobile", api.GroupChange{IssuerGroup: "mobile-builders"})
	require.NoError(t, err)
	require.NoError(t, y.s.People.Grant(ground.AsItself(t.Context()), api.Grant{Project: "tides", Group: "mobile", Role: access.Builder}))

	i.claims = map[string]any{"sub": "1", "preferred_username": "Ada Quill", "groups": []string{"mobile-builders", "others"}}
	res := y.come(t, i, nil)
	require.Equal(t, http.StatusSeeOther, res.Code, res.Body)
	assert.Equal(t, "/", res.Header().Get("Location"))
	me := y.meOf(t, res)
	assert.Equal(t, "ada-quill", me.Name)
	assert.Equal(t, map[string]access.Role{"tides": access.Builder}, me.Roles, "by the group at the issuer")
	i.claims["groups"] = []string{}
	assert.Empty(t, y.meOf(t, y.come(t, i, nil)).Roles, "which is asked at each sign-in")
	trail, err := y.s.Audit(ground.AsItself(t.Context()), ground.AuditFilter{Act: "session.open", Subject: "ada-quill", Limit: 2})
	require.NoError(t, err)
	require.Len(t, trail.Acts, 2)
	assert.JSONEq(t, `{"by_issuer": true, "groups": ["mobile"], "administrator": false}`, string(trail.Acts[1].After), "and noted")
	assert.JSONEq(t, `{"by_issuer": true, "groups": [], "administrator": false}`, string(trail.Acts[0].After))

	// Somebody at the issuer is never taken for somebody here because of a name.
	i.claims = map[string]any{"sub": "2", "preferred_username": "admin"}
	me = y.meOf(t, y.come(t, i, nil))
	assert.Equal(t, "admin-2", me.Name)
	assert.False(t, me.Administrator)

	yes := true
	_, err = y.s.People.ChangePerson(ground.AsItself(t.Context()), "admin-2", api.PersonChange{Disabled: &yes})
	require.NoError(t, err)
	assert.Equal(t, 403, y.come(t, i, nil).Code, "whoever is kept out stays out")
	res = httptest.NewRecorder()
	y.handler.ServeHTTP(res, httptest.NewRequest("POST", "/api/v1/session", strings.NewReader(`{"name":"admin-2","password":"x"}`)))
	assert.NotEqual(t, 200, res.Code, "and nobody from an issuer has a password here")
	err = y.s.People.ChangePassword(ground.WithWho(t.Context(), ground.Who{Name: "admin-2", Kind: api.PersonToken}), api.OwnPassword{Old: "x", New: "a-new-password"})
	assert.ErrorContains(t, err, "and have no password here")
}

func TestWhatAnIssuersAnswerMustBe(t *testing.T) {
	i := newIssuer(t)
	y := newYard(t, people.Issuer{Address: i.URL, ClientID: "piston", GroupsClaim: "groups", Return: "http://piston.example/return"})
	good := map[string]any{"sub": "1", "preferred_username": "ada"}
	with := func(k string, v any) map[string]any {
		return map[string]any{"sub": "1", "preferred_username": "ada", k: v}
	}
	for name, c := range map[string]struct {
		claims map[string]any
		alter  func(q url.Values, cookies map[string]string)
	}{
		"another state":   {good, func(q url.Values, _ map[string]string) { q.Set("state", "other") }},
		"no state":        {good, func(q url.Values, _ map[string]string) { q.Del("state") }},
		"another browser": {good, func(_ url.Values, c map[string]string) { clear(c) }},
		"a cookie of its own": {good, func(_ url.Values, c map[string]string) {
			c[issuerCookie] = base64.RawURLEncoding.EncodeToString([]byte(`{"state":""}`))
		}},
		"a wrong code":     {good, func(q url.Values, _ map[string]string) { q.Set("code", "guess") }},
		"another nonce":    {with("nonce", "other"), nil},
		"another audience": {with("aud", "other"), nil},
		"another issuer":   {with("iss", "http://other.example"), nil},
		"expired":          {with("exp", time.Now().Add(-time.Hour).Unix()), nil},
	} {
		i.claims = c.claims
		res := y.come(t, i, c.alter)
		assert.Equal(t, 401, res.Code, "%s: %s", name, res.Body)
		for _, cookie := range res.Result().Cookies() {
			assert.NotEqual(t, cookieName, cookie.Name, name)
		}
	}
}

func TestAnIssuerThatIsDown(t *testing.T) {
	i := newIssuer(t)
	i.Close()
	y := newYard(t, people.Issuer{Address: i.URL, ClientID: "piston", Return: "http://piston.example/return"})
	assert.Equal(t, 503, y.ask("nobody", "GET", "/api/v1/session/issuer", "").Code)
	r := httptest.NewRequest("GET", "/api/v1/session/issuer", nil)
	r.Header.Set("Accept", "text/html")
	res := httptest.NewRecorder()
	y.handler.ServeHTTP(res, r)
	assert.Equal(t, "/?issuer=away", res.Header().Get("Location"), "a browser is told on the sign-in page")
	assert.Equal(t, 200, y.ask("reader", "GET", "/api/v1/projects/tides", "").Code, "everything else goes on")
}

// A program on somebody's machine signs in by their browser, and only it can take what the browser brings.
func TestAProgramSignsInByTheBrowser(t *testing.T) {
	i := newIssuer(t)
	y := newYard(t, people.Issuer{Address: i.URL, ClientID: "piston", GroupsClaim: "groups", Return: "http://piston.example/return"})
	server := httptest.NewServer(y.handler)
	t.Cleanup(server.Close)
	cl := client.New(server.URL, "")
	// goes is the browser: to the issuer and back, as far as it is sent.
	goes := func(t *testing.T, address string) *url.URL {
		t.Helper()
		u, err := url.Parse(address)
		require.NoError(t, err)
		res := y.comeBy(t, i, u.RequestURI(), nil)
		require.Equal(t, http.StatusSeeOther, res.Code, res.Body)
		assert.NotContains(t, res.Header().Values("Set-Cookie"), "piston_session=", "the browser itself is not signed in")
		to, err := url.Parse(res.Header().Get("Location"))
		require.NoError(t, err)
		return to
	}
	i.claims = map[string]any{"sub": "1", "preferred_username": "ada"}
	b, err := cl.SignInByBrowser(t.Context())
	require.NoError(t, err)
	defer b.Close()
	to := goes(t, b.Address)
	assert.Equal(t, "127.0.0.1", to.Hostname())
	arrived, err := http.Get(to.String())
	require.NoError(t, err)
	require.NoError(t, arrived.Body.Close())
	issued, err := b.Wait(t.Context(), "on a desk")
	require.NoError(t, err)
	me, err := client.New(server.URL, issued.Secret).Me(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "ada", me.Name)

	b.Answer(to.Query())
	_, err = b.Wait(t.Context(), "again")
	assert.True(t, client.IsStatus(err, http.StatusUnauthorized), "a code is good once: %v", err)

	other, err := cl.SignInByBrowser(t.Context())
	require.NoError(t, err)
	defer other.Close()
	stolen := goes(t, b.Address).Query()
	other.Answer(stolen)
	_, err = other.Wait(t.Context(), "a thief")
	assert.True(t, client.IsStatus(err, http.StatusUnauthorized), "a code is no good to whoever did not begin: %v", err)
	b.Answer(stolen)
	_, err = b.Wait(t.Context(), "late")
	assert.Error(t, err, "and gone after a wrong try")

	yes := true
	_, err = y.s.People.ChangePerson(ground.AsItself(t.Context()), "ada", api.PersonChange{Disabled: &yes})
	require.NoError(t, err)
	b.Answer(goes(t, b.Address).Query())
	_, err = b.Wait(t.Context(), "kept out")
	assert.ErrorContains(t, err, "may not sign in")

	for _, bad := range []string{"port=80&challenge=" + strings.Repeat("a", 43), "port=4000&challenge=short", "port=x", "challenge=" + strings.Repeat("a", 43)} {
		res := httptest.NewRecorder()
		y.handler.ServeHTTP(res, httptest.NewRequest("GET", "/api/v1/session/issuer?"+bad, nil))
		assert.Equal(t, http.StatusUnprocessableEntity, res.Code, bad)
	}
}
