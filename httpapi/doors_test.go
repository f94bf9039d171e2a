package httpapi

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/service"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/people"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

func TestMain(m *testing.M) { testdb.Main(m, store.Prepare) }

// yard is a service with a project in which a run waits, and somebody of each kind.
type yard struct {
	s       *service.Service
	handler http.Handler
	routes  chi.Routes
	tokens  map[string]string // by visitor
	attempt record.AttemptID
	server  *server
	store   *store.Store
	dsn     string
}

func newYard(t *testing.T, issuer people.Issuer) *yard {
	t.Helper()
	ctx := ground.AsItself(t.Context())
	dsn := testdb.New(t)
	st, err := store.Open(ctx, dsn)
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	sm, err := stream.Open(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(sm.Close)
	blobs, err := blob.OpenFolder(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { blobs.Close() })
	home := t.TempDir()
	s, err := service.Open(ctx, st, sm, blobs, service.Options{Home: home, Master: vault.FindMaster(func(string) string { return "" }, service.MasterFile(home)),
		Issuer: issuer, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	sv := newServer(s, Options{})
	h, _ := build(sv)
	y := &yard{s: s, handler: h, routes: h, tokens: map[string]string{}, server: sv, store: st, dsn: dsn}

	repo := filepath.Join(t.TempDir(), "tides.git")
	git := func(args ...string) {
		cmd := exec.Command("git", append([]string{"-c", "user.name=Ada", "-c", "user.email=ada@tides.example", "-c", "init.defaultBranch=main"}, args...)...)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	git("init", "-q", repo)
	write(t, filepath.Join(repo, "piston", "trunk.toml"), "[[job.a.step]]\nscript = \"true\"\n")
	git("-C", repo, "add", ".")
	git("-C", repo, "commit", "-qm", "Begin")
	_, err = s.Projects.AddProject(ctx, api.NewProject{Name: "tides", Remote: repo})
	require.NoError(t, err)

	token := func(visitor string, w ground.Who, n api.NewToken) {
		n.Name = visitor
		issued, err := s.People.IssueToken(ground.WithWho(ctx, w), n)
		require.NoError(t, err)
		y.tokens[visitor] = issued.Secret
	}
	for _, name := range []string{"stranger", "reader", "builder", "keeper", "admin"} {
		_, err := s.People.AddPerson(ctx, api.NewPerson{Name: name, Administrator: name == "admin"})
		require.NoError(t, err)
		p, err := st.PersonByName(ctx, name)
		require.NoError(t, err)
		w := ground.Who{ID: p.ID, Name: name, Kind: api.PersonToken, Administrator: p.Administrator}
		if role := access.Role(name); name != "stranger" && name != "admin" {
			require.NoError(t, s.People.Grant(ctx, api.Grant{Project: "tides", Person: name, Role: role}))
		}
		token(name, w, api.NewToken{Kind: api.PersonToken})
		switch name {
		case "keeper":
			token("readonly", w, api.NewToken{Kind: api.PersonToken, Role: access.Reader})
		case "admin":
			token("bounded", w, api.NewToken{Kind: api.PersonToken, Role: access.Keeper})
			token("expired", w, api.NewToken{Kind: api.PersonToken, Days: 1})
		}
	}
	token("holder", ground.WhoAsks(ctx), api.NewToken{Kind: api.RunnerToken})
	token("runner", ground.WhoAsks(ctx), api.NewToken{Kind: api.RunnerToken})
	expire(t, dsn, "expired")

	_, err = s.Intake.StartRun(ctx, "tides", "ada", api.StartRun{Pipeline: "trunk"})
	require.NoError(t, err)
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	var claimed struct{ Work *api.Work }
	claim := fmt.Sprintf(`{"runner":"box","labels":["linux"],"platform":"linux/amd64","slots":1,"tools":{},"protocol":%d,"recipient":%q,"wait_ms":5000}`, api.RunnerProtocol, identity.Recipient())
	res := y.ask("holder", "POST", "/api/v1/runner/claim", claim)
	require.Equal(t, 200, res.Code, res.Body)
	require.NoError(t, json.Unmarshal(res.Body.Bytes(), &claimed))
	require.NotNil(t, claimed.Work)
	y.attempt = claimed.Work.Attempt
	return y
}

// ask sends a request as a visitor.
func (y *yard) ask(visitor, method, path, body string) *httptest.ResponseRecorder {
	return y.askFor(time.Minute, visitor, method, path, body)
}

// askFor hangs up after a time.
func (y *yard) askFor(patience time.Duration, visitor, method, path, body string) *httptest.ResponseRecorder {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	r := httptest.NewRequestWithContext(ctx, method, path, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	if token := y.tokens[visitor]; token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	w := httptest.NewRecorder()
	func() {
		defer func() { _ = recover() }() // an answer that is cut off
		y.handler.ServeHTTP(w, r)
	}()
	return w
}

var params = regexp.MustCompile(`\{\w+\}`)

func (y *yard) path(route string) string {
	values := map[string]string{"{project}": "tides", "{number}": "999", "{job}": "a", "{id}": "999", "{name}": "none", "{key}": "none", "{commit}": strings.Repeat("0", 40), "{attempt}": fmt.Sprint(y.attempt), "{app}": "app", "{language}": "en", "{pack}": "999"}
	return params.ReplaceAllStringFunc(strings.Replace(route, "*", "", 1), func(p string) string { return values[p] })
}

func TestEveryRouteAndEveryVisitor(t *testing.T) {
	y := newYard(t, people.Issuer{})
	seen := map[string]bool{}
	require.NoError(t, chi.Walk(y.routes, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		name := method + " " + route
		seen[name] = true
		_, listed := routes[name]
		assert.True(t, listed, "%s is in no row of this test: say who may do it", name)
		_, guarded := doors[name]
		assert.True(t, guarded, "%s has no door", name)
		return nil
	}))
	for name := range doors {
		assert.True(t, seen[name], "%s has a door and is no route", name)
	}
	const signOut = "DELETE /api/v1/session" // ends the tokens by which they came, so it is the last
	order := append(slices.DeleteFunc(slices.Sorted(maps.Keys(routes)), func(name string) bool { return name == signOut || name == removal }), signOut)
	for _, name := range order {
		want := routes[name]
		method, route, _ := strings.Cut(name, " ")
		if !assert.True(t, seen[name], "%s is no route", name) {
			continue
		}
		for i, visitor := range visitors {
			if name == "POST /api/v1/runner/claim" && want[i] == in {
				continue // the yard has claimed already; another claim would wait
			}
			patience := time.Minute
			if want[i] == in && (strings.Contains(route, "/stream") || strings.HasSuffix(route, "/beat")) { // held open
				patience = 300 * time.Millisecond
			}
			res := y.askFor(patience, visitor, method, y.path(route), "")
			shut := (res.Code == 401 || res.Code == 403) && !strings.Contains(res.Body.String(), "name or password")
			if want[i] == 404 {
				assert.Equal(t, 404, res.Code, "%s as %s", name, visitor)
				assert.Contains(t, res.Body.String(), "project tides", "%s as %s: the project itself is not there", name, visitor)
				continue
			}
			if want[i] != in {
				assert.Equal(t, want[i], res.Code, "%s as %s: %s", name, visitor, res.Body)
				assert.Equal(t, "application/problem+json", res.Header().Get("Content-Type"), name)
				continue
			}
			if own, is := proofs[name]; is {
				assert.Contains(t, own, res.Code, "%s as %s: %s", name, visitor, res.Body)
				continue
			}
			assert.False(t, shut, "%s as %s: %d %s", name, visitor, res.Code, res.Body)
			assert.Less(t, res.Code, 500, "%s as %s: %s", name, visitor, res.Body)
		}
	}
	for i, visitor := range visitors {
		if routes[signOut][i] == in {
			assert.Equal(t, 401, y.ask(visitor, "GET", y.path("/api/v1/session"), "").Code, "%s has signed out", visitor)
		}
	}
}

// proofs are the answers of routes that ask for a proof of their own, which these visitors do not bring.
var proofs = map[string][]int{
	"POST /api/v1/projects/{project}/pushes":              {401},
	"POST /api/v1/projects/{project}/outlets/{name}/news": {401},
	"PUT /api/v1/session/password":                        {400},
	"GET /api/v1/session/issuer/return":                   {404},
}

func TestOtherWaysThroughADoor(t *testing.T) {
	y := newYard(t, people.Issuer{})
	for _, path := range []string{"/api/v1/projects/tides/", "/api/v1//projects/tides", "/api/v1/projects/../projects/tides", "/api/v1/projects/tides%2fruns",
		"/API/v1/projects/tides", "/api/v1/projects/tides;x", "/api/v1/./projects", "/api/v2/projects", "/git/tides/HEAD", "/git/../api/v1/projects"} {
		for _, method := range []string{"GET", "HEAD", "OPTIONS", "PATCH", "TRACE"} {
			res := y.ask("nobody", method, path, "")
			assert.NotContains(t, res.Body.String(), `"remote"`, "%s %s", method, path)
			assert.True(t, res.Code >= 400 || strings.HasPrefix(res.Header().Get("Content-Type"), "text/html"), "%s %s: %d", method, path, res.Code)
		}
	}
	// A page of another origin cannot use a session (Fetch metadata, and Origin).
	r := httptest.NewRequest("POST", "http://piston.example/api/v1/projects/tides/runs", strings.NewReader(`{"pipeline":"trunk"}`))
	r.Header.Set("Authorization", "Bearer "+y.tokens["admin"])
	r.Header.Set("Sec-Fetch-Site", "cross-site")
	w := httptest.NewRecorder()
	y.handler.ServeHTTP(w, r)
	assert.Equal(t, 403, w.Code)
}

func TestAnExpiredTokenIsToldFromAWrongOne(t *testing.T) {
	y := newYard(t, people.Issuer{})
	res := y.ask("expired", "GET", "/api/v1/projects", "")
	assert.Equal(t, 401, res.Code)
	assert.Contains(t, res.Body.String(), "has expired on")
	y.tokens["wrong"] = "piston_WRONG"
	res = y.ask("wrong", "GET", "/api/v1/projects", "")
	assert.Contains(t, res.Body.String(), "sign in first")
	for range 100 {
		res = y.ask("wrong", "GET", "/api/v1/projects", "")
	}
	assert.Equal(t, 429, res.Code, "trying tokens is slow")
	assert.NotEmpty(t, res.Header().Get("Retry-After"))
	assert.Equal(t, 200, y.ask("reader", "GET", "/api/v1/projects", "").Code, "and keeps nobody waiting who has a good one")
}

func TestHeadersOfEveryAnswer(t *testing.T) {
	y := newYard(t, people.Issuer{})
	for _, path := range []string{"/", "/api/v1/health", "/api/v1/projects", "/nowhere.js"} {
		h := y.ask("nobody", "GET", path, "").Header()
		policy := h.Get("Content-Security-Policy")
		assert.Contains(t, policy, "default-src 'none'; script-src 'self';", path)
		assert.NotRegexp(t, `script-src[^;]*(unsafe|\*|data:|blob:)`, policy, path)
		assert.Contains(t, policy, "frame-ancestors 'none'", path)
		assert.Equal(t, "nosniff", h.Get("X-Content-Type-Options"), path)
	}
}

func TestWhereARequestIsFrom(t *testing.T) {
	direct := newServer(nil, Options{})
	behind := newServer(nil, Options{Proxies: prefixes(t, "127.0.0.1/32", "10.0.0.0/8")})
	for _, c := range []struct {
		sv         *server
		remote     string
		forwarded  []string
		want, says string
	}{
		{direct, "192.0.2.1:999", []string{"203.0.113.5"}, "192.0.2.1", "nobody is believed who is no proxy of ours"},
		{behind, "192.0.2.1:999", []string{"203.0.113.5"}, "192.0.2.1", "a stranger may not say so either"},
		{behind, "127.0.0.1:999", []string{"203.0.113.5"}, "203.0.113.5", "our proxy may"},
		{behind, "127.0.0.1:999", []string{"1.1.1.1, 203.0.113.5, 10.2.3.4"}, "203.0.113.5", "what came before our proxies is not believed"},
		{behind, "127.0.0.1:999", []string{"1.1.1.1", "203.0.113.5"}, "203.0.113.5", "in several headers, too"},
		{behind, "127.0.0.1:999", []string{"junk"}, "127.0.0.1", "what is no address is none"},
		{behind, "127.0.0.1:999", nil, "127.0.0.1", "nothing is said"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = c.remote
		r.Header["X-Forwarded-For"] = c.forwarded
		assert.Equal(t, c.want, c.sv.address(r), c.says)
	}
}

func TestARunnerDoesNotReadWhatItsJobMayNot(t *testing.T) {
	y := newYard(t, people.Issuer{})
	assert.Equal(t, 200, y.ask("holder", "GET", "/git/tides/info/refs?service=git-upload-pack", "").Code)
	pack := "/git/tides/pack/" + strings.Repeat("0", 40)
	assert.Equal(t, 404, y.ask("holder", "GET", pack, "").Code, "a commit that is not there")
	assert.Equal(t, 404, y.ask("holder", "GET", "/git/tides/pack/HEAD", "").Code, "a pack is of a commit by its id")
	assert.Equal(t, 403, y.ask("runner", "GET", pack, "").Code)
	assert.Equal(t, 403, y.ask("holder", "GET", strings.Replace(pack, "tides", "charts", 1), "").Code)
	assert.Equal(t, 403, y.ask("holder", "GET", "/git/charts/info/refs?service=git-upload-pack", "").Code)
	assert.Equal(t, 403, y.ask("runner", "GET", "/git/tides/info/refs?service=git-upload-pack", "").Code)
	res := y.ask("holder", "GET", "/git/tides/info/refs?service=git-receive-pack", "")
	assert.Equal(t, 403, res.Code, "nobody pushes here")
	_, _ = io.Copy(io.Discard, res.Body)
}

// A runner gives its job up when it is refused. That the database does not answer is no refusal.
func TestWhatCannotBeToldIsNoRefusal(t *testing.T) {
	y := newYard(t, people.Issuer{})
	attempt := fmt.Sprintf("/api/v1/runner/attempts/%d/beat", y.attempt)
	db, err := sql.Open("pgx", y.dsn)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(`ALTER TABLE attempts RENAME TO away`)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, y.ask("holder", "POST", attempt, "").Code, 500)
	assert.GreaterOrEqual(t, y.ask("holder", "GET", "/git/tides/info/refs?service=git-upload-pack", "").Code, 500)
}

func TestASourceIsClosedWhenTheJobIsOver(t *testing.T) {
	y := newYard(t, people.Issuer{})
	refs := "/git/tides/info/refs?service=git-upload-pack"
	require.Equal(t, 200, y.ask("holder", "GET", refs, "").Code)
	finish := fmt.Sprintf(`{"state":"passed","at":%d,"lines":0,"caches":[]}`, time.Now().UnixMilli())
	require.Equal(t, 200, y.ask("holder", "POST", fmt.Sprintf("/api/v1/runner/attempts/%d/finish", y.attempt), finish).Code)
	assert.Equal(t, 403, y.ask("holder", "GET", refs, "").Code)
}

func TestCookiesOfASiteByTLSAreForThatOnly(t *testing.T) {
	for _, secure := range []bool{true, false} {
		sv := newServer(nil, Options{Secure: secure})
		cookies := sv.cookiesOf(people.Entry{Session: "s", Device: "d"})
		require.Len(t, cookies, 2)
		for _, c := range cookies {
			assert.Equal(t, secure, c.Secure, c.Name)
			assert.True(t, c.HttpOnly, c.Name)
			assert.Equal(t, http.SameSiteStrictMode, c.SameSite, c.Name)
		}
	}
}

// A stream that is open when its token is revoked ends within moments.
func TestAStreamEndsWithWhatOpenedIt(t *testing.T) {
	y := newYard(t, people.Issuer{})
	ended := make(chan *httptest.ResponseRecorder, 1)
	go func() { ended <- y.askFor(time.Minute, "reader", "GET", "/api/v1/stream", "") }()
	time.Sleep(200 * time.Millisecond)
	list, err := y.s.People.Tokens(ground.WithWho(t.Context(), ground.Who{Kind: api.PersonToken, Administrator: true}), 0, "reader", 10)
	require.NoError(t, err)
	for _, token := range list {
		if token.Name == "reader" {
			require.NoError(t, y.s.People.RevokeToken(ground.WithWho(t.Context(), ground.Who{Name: "admin", Kind: api.PersonToken, Administrator: true}), token.ID))
		}
	}
	for range 40 { // it looks when there is something to tell, or nothing for a while
		select {
		case res := <-ended:
			assert.Contains(t, res.Body.String(), "event: hello", "it had begun")
			return
		case <-time.After(time.Second):
			_, err := y.s.Intake.StartRun(ground.AsItself(t.Context()), "tides", "ada", api.StartRun{Pipeline: "trunk"})
			require.NoError(t, err)
		}
	}
	assert.Fail(t, "it goes on")
}
