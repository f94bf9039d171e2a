package e2e

import (
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
	require.Len(t, res.Cookies(), 2, "the session, and what makes the browser known")
	for _, c := range res.Cookies() {
		assert.True(t, c.HttpOnly)
		assert.Equal(t, http.SameSiteStrictMode, c.SameSite)
	}
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
		req.Header.Set("Accept", "text/html, */*")
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
