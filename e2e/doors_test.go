package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/httpapi"
)

// Nothing but health, signing in and signed pushes answers without a session or token: every operation of the
// document is tried.
func TestNothingAnswersStrangers(t *testing.T) {
	s := theServer(t)
	text, err := httpapi.Document()
	require.NoError(t, err)
	var doc struct {
		OpenAPI string `json:"openapi"`
		Paths   map[string]map[string]struct {
			OperationID string `json:"operationId"`
		} `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	assert.True(t, strings.HasPrefix(doc.OpenAPI, "3.1"))
	require.Greater(t, len(doc.Paths), 20)
	token, code := s.piston(t, "", "token", "add", "--runner", "doors")
	require.Zero(t, code)
	open := map[string]int{"health": 200, "sign-in": 400, "report-push": 401}
	try := func(method, path, bearer string) int {
		for _, part := range []string{"{project}", "{name}", "{job}", "{key}"} {
			path = strings.ReplaceAll(path, part, "x")
		}
		for _, part := range []string{"{number}", "{id}", "{attempt}", "{step}"} {
			path = strings.ReplaceAll(path, part, "1")
		}
		req, err := http.NewRequest(strings.ToUpper(method), "http://"+s.listen+path, nil)
		require.NoError(t, err)
		if bearer != "" {
			req.Header.Set("Authorization", "Bearer "+bearer)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		if res.StatusCode >= 400 {
			assert.Contains(t, res.Header.Get("Content-Type"), "application/problem+json", path)
		}
		io.Copy(io.Discard, res.Body)
		return res.StatusCode
	}
	for path, methods := range doc.Paths {
		for method, op := range methods {
			want, known := open[op.OperationID]
			if !known {
				want = 401
			}
			assert.Equal(t, want, try(method, path, ""), "%s %s for a stranger", method, path)
			if !known {
				assert.Equal(t, 401, try(method, path, "piston_NOSUCHTOKEN"), "%s %s with a made-up token", method, path)
			}
			if !known && !strings.Contains(path, "/runner/") {
				assert.Equal(t, 403, try(method, path, strings.TrimSpace(token)), "%s %s for a runner", method, path)
			}
			if strings.Contains(path, "/runner/") {
				assert.Equal(t, 403, try(method, path, s.cl.Token), "%s %s for a person", method, path)
			}
		}
	}
	assert.Equal(t, 401, try("GET", "/git/x/info/refs?service=git-upload-pack", ""))
	assert.Equal(t, 403, try("GET", "/git/x/info/refs?service=git-upload-pack", s.cl.Token))
}

func TestSignInAndItsCookie(t *testing.T) {
	s := theServer(t)
	post := func(body string, header map[string]string) *http.Response {
		req, err := http.NewRequest(http.MethodPost, "http://"+s.listen+"/api/v1/session", strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		for k, v := range header {
			req.Header.Set(k, v)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		return res
	}
	assert.Equal(t, 401, post(`{"name":"admin","password":"wrong"}`, nil).StatusCode)
	assert.Equal(t, 401, post(`{"name":"nobody","password":"wrong"}`, nil).StatusCode)
	good := `{"name":"admin","password":"` + s.password + `"}`
	res := post(good, nil)
	require.Equal(t, 200, res.StatusCode)
	require.Len(t, res.Cookies(), 1)
	c := res.Cookies()[0]
	assert.True(t, c.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, c.SameSite)
	assert.Equal(t, 403, post(good, map[string]string{"Origin": "https://evil.example", "Sec-Fetch-Site": "cross-site"}).StatusCode, "another site's page")

	out, code := s.piston(t, "wrong\n", "sign-in", "http://"+s.listen)
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "name or password is wrong")
	info, err := os.Stat(s.config)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	raw, _ := exec.Command("curl", "-s", "http://"+s.listen+"/api/v1/projects/nothing/runs").Output()
	assert.Contains(t, string(raw), "sign in first")
}

func TestTheConsoleIsServedPacked(t *testing.T) {
	s := theServer(t)
	get := func(path, accept string) *http.Response {
		req, err := http.NewRequest(http.MethodGet, "http://"+s.listen+path, nil)
		require.NoError(t, err)
		req.Header.Set("Accept-Encoding", accept)
		res, err := http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		return res
	}
	page := get("/some/page", "identity")
	text, err := io.ReadAll(page.Body)
	require.NoError(t, err)
	assert.Equal(t, "no-cache", page.Header.Get("Cache-Control"))
	assert.NotContains(t, page.Header.Get("Content-Security-Policy"), "script-src 'unsafe")
	scripts := 0
	for _, part := range strings.Split(string(text), `"`) {
		if !strings.HasPrefix(part, "/assets/") || !strings.HasSuffix(part, ".js") {
			continue
		}
		res := get(part, "gzip, br")
		assert.Equal(t, "br", res.Header.Get("Content-Encoding"))
		assert.Contains(t, res.Header.Get("Cache-Control"), "immutable")
		packed, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		scripts += len(packed)
		assert.Empty(t, get(part, "identity").Header.Get("Content-Encoding"))
	}
	t.Logf("the first view loads %d kB of packed script", scripts/1000)
	assert.Greater(t, scripts, 10_000)
	assert.Less(t, scripts, 350_000)
	assert.Equal(t, 404, get("/assets/none.js", "br").StatusCode)
}
