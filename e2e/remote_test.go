package e2e

import (
	"fmt"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/state"
)

// webHost serves repositories below a folder by git's own program. Reading is free; pushing takes a password.
type webHost struct {
	*httptest.Server
	top    string
	pushed atomic.Int32
}

const pushPassword = "tide-7Kq2-low-water"

func serveWebHost(t *testing.T) *webHost {
	where, err := exec.Command("git", "--exec-path").Output()
	require.NoError(t, err)
	h := &webHost{top: t.TempDir()}
	git := &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(where)), "git-http-backend"),
		Env: []string{"GIT_PROJECT_ROOT=" + h.top, "GIT_HTTP_EXPORT_ALL=1", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_COUNT=2",
			"GIT_CONFIG_KEY_0=safe.directory", "GIT_CONFIG_VALUE_0=*", "GIT_CONFIG_KEY_1=http.receivepack", "GIT_CONFIG_VALUE_1=true"}}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.String(), "git-receive-pack") {
			if _, password, _ := r.BasicAuth(); password != pushPassword {
				w.Header().Set("WWW-Authenticate", `Basic realm="tides"`)
				http.Error(w, "who are you?", http.StatusUnauthorized)
				return
			}
			h.pushed.Add(1)
		}
		git.ServeHTTP(w, r)
	}))
	t.Cleanup(h.Close)
	return h
}

// elsewhere makes a repository of an app on a host, which is registered by its address there.
func (s *server) elsewhere(t *testing.T, name string, h *webHost, land string) *repo {
	t.Helper()
	r := &repo{t: t, s: s, name: name, dir: t.TempDir()}
	r.git("init", "-q", "-b", "main")
	r.commit("An app", map[string]string{"VERSION": "1.4.0\n", "piston/trunk.toml": "[[job.main.step]]\nraise = { by = \"minor\" }\n[[job.main.step]]\nland = { " + land + " }\n"})
	bare := filepath.Join(h.top, name+".git")
	r.git("clone", "-q", "--bare", r.dir, bare)
	r.git("remote", "add", "origin", bare)
	out, code := s.piston(t, "", "project", "add", name, h.URL+"/"+name+".git", "--no-hook")
	require.Zero(t, code, out)
	return r
}

func (r *repo) startsTrunk(number int) {
	r.t.Helper()
	out, code := r.s.piston(r.t, "", "start", r.name, "trunk")
	require.Zero(r.t, code, out)
	require.Contains(r.t, out, fmt.Sprint(number))
}

func TestALandingOnARemoteByAPassword(t *testing.T) {
	s := theServer(t)
	h := serveWebHost(t)
	r := s.elsewhere(t, "by-password", h, `tag = true, key = "LANDING_TOKEN"`)
	out, code := s.piston(t, "", "project", "bot", "by-password", "--name", "Tidewick Bot", "--email", "bot@tidewick.example")
	require.Zero(t, code, out)
	assert.Contains(t, out, "lands as Tidewick Bot <bot@tidewick.example>")
	_, code = s.piston(t, "not this one", "secret", "set", "by-password", "LANDING_TOKEN")
	require.Zero(t, code)
	r.startsTrunk(1)
	d := r.run(1, true)
	assert.Equal(t, state.Failed, d.State)
	log := r.logText(1, "main")
	assert.Contains(t, log, "the push was refused: it takes no push with this password")
	assert.NotContains(t, log, "not this one")
	assert.Equal(t, "1.4.0", r.git("ls-remote", "origin", "refs/tags/*")+r.git("fetch", "-q", "origin")+r.git("show", "origin/main:VERSION"), "nothing is there")

	_, code = s.piston(t, pushPassword, "secret", "set", "by-password", "LANDING_TOKEN")
	require.Zero(t, code)
	r.startsTrunk(2)
	r.passesAs(2, "main")
	r.git("fetch", "-q", "--tags", "origin")
	assert.Equal(t, "1.5.0", r.git("show", "v1.5.0:VERSION"))
	assert.Equal(t, "Tidewick Bot <bot@tidewick.example>", r.git("log", "-1", "--format=%an <%ae>", "origin/main"))
	assert.Positive(t, h.pushed.Load())
	assert.NotContains(t, r.logText(2, "main"), pushPassword)

	require.NoError(t, os.WriteFile(filepath.Join(h.top, "by-password.git", "hooks", "pre-receive"), []byte("#!/bin/sh\necho 'ask the harbour master'\nexit 1\n"), 0o755))
	r.startsTrunk(3)
	assert.Equal(t, state.Failed, r.run(3, true).State)
	assert.Contains(t, r.logText(3, "main"), "ask the harbour master")
}

func TestALandingOnARemoteByAKey(t *testing.T) {
	s := theServer(t)
	web := serveWebHost(t)
	may, key := newKey(t)
	host := serveGitHost(t, may.PublicKey())
	r := s.elsewhere(t, "by-key", web, `tag = true, key = "LANDING_KEY", sign = "LANDING_KEY"`)
	at := "ssh://git@" + host.address + filepath.Join(web.top, "by-key.git")
	set := func(more ...string) (string, int) {
		return s.piston(t, "", append([]string{"project", "bot", "by-key"}, more...)...)
	}
	for _, bad := range [][]string{{"--push-to", "ssh://git@elsewhere.tidewick.example/a.git", "--host", host.line},
		{"--push-to", at}, {"--push-to", at, "--host", "none"}, {"--push-to", "https://127.0.0.1/a.git", "--host", host.line},
		{"--push-to", at, "--host", strings.Replace(host.line, ":", ":1", 1)}, {"--host", host.line}, {"--email", "a b"}, {"--name", "a<b"}} {
		out, code := set(bad...)
		assert.NotZero(t, code, "%v: %s", bad, out)
	}
	out, code := set("--push-to", at, "--host", host.line)
	require.Zero(t, code, out)
	_, strangers := newKey(t)
	_, code = s.piston(t, strangers, "secret", "set", "by-key", "LANDING_KEY")
	require.Zero(t, code)
	r.startsTrunk(1)
	assert.Equal(t, state.Failed, r.run(1, true).State)
	assert.Contains(t, r.logText(1, "main"), "unable to authenticate")

	_, code = s.piston(t, key, "secret", "set", "by-key", "LANDING_KEY")
	require.Zero(t, code)
	r.startsTrunk(2)
	r.passesAs(2, "main")
	r.git("fetch", "-q", "--tags", "origin")
	assert.Equal(t, "1.5.0", r.git("show", "v1.5.0:VERSION"))
	assert.Zero(t, web.pushed.Load(), "it went by ssh")
	assert.NotContains(t, r.logText(2, "main"), "OPENSSH")

	// A host that shows another key is not spoken to any further.
	other, _ := newKey(t)
	out, code = set("--host", strings.Fields(host.line)[0]+" "+keyLine(other))
	require.Zero(t, code, out)
	r.startsTrunk(3)
	assert.Equal(t, state.Failed, r.run(3, true).State)
	assert.Contains(t, r.logText(3, "main"), "which piston project bot --host does not name")
}
