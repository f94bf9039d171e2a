package e2e

import (
	"encoding/pem"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wayOut stands for a company's proxy: the only thing that knows where a name is (RFC 9110, 9.3.6, CONNECT).
func wayOut(t *testing.T, name, address string) (proxy string, tunnels *atomic.Int32) {
	tunnels = &atomic.Int32{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodConnect || r.Host != name {
			http.Error(w, "nothing is known of "+r.Host, http.StatusBadGateway)
			return
		}
		there, err := net.Dial("tcp", address)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		defer there.Close()
		here, rest, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		defer here.Close()
		tunnels.Add(1)
		_, _ = io.WriteString(here, "HTTP/1.1 200 OK\r\n\r\n")
		go func() { _, _ = io.Copy(there, rest); there.Close() }()
		_, _ = io.Copy(here, there)
	}))
	t.Cleanup(s.Close)
	return s.URL, tunnels
}

// A runner in a company reaches the service only by a proxy, and only with the company's own authority. Both hold for
// everything that it fetches and sends: git's checkout too.
func TestARunnerBehindAProxyWithAPrivateAuthority(t *testing.T) {
	s := theServer(t)
	plain, err := url.Parse("http://" + s.listen)
	require.NoError(t, err)
	front := httptest.NewTLSServer(&httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(plain) }, FlushInterval: -1,
	})
	t.Cleanup(front.Close)
	proxy, tunnels := wayOut(t, "example.com:443", front.Listener.Addr().String()) // the name its certificate is for

	home := folder(t)
	authority := filepath.Join(home, "authority.pem")
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: front.Certificate().Raw})
	require.NoError(t, os.WriteFile(authority, text, 0o600))
	file := s.runnerToken(t, "company", home)
	cmd := exec.Command(binary(), "runner", "--server", "https://example.com", "--token-file", file, "--home", filepath.Join(home, "runner"),
		"--name", "company", "--label", "company", "--ca-file", authority)
	cmd.Env = append(os.Environ(), "HTTPS_PROXY="+proxy)
	begin(t, cmd)

	r := s.project(t, "company", map[string]string{"piston/trunk.toml": `
[trigger.push]
[job.main]
machine = ["company"]
[[job.main.step]]
script = "mkdir out; cp piston/trunk.toml out/; echo built in the company"
[job.main.keep.out]
files = ["out/*"]
`})
	r.push()
	r.passes(1)
	assert.Contains(t, r.logText(1, "main"), "built in the company")
	assert.Greater(t, tunnels.Load(), int32(1), "one for git besides the runner's own")
}
