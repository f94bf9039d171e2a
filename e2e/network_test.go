package e2e

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/state"
)

// What a step tries of the network it is given unless it asks for another: it must fail to reach anything inside.
const reaches = `
! curl -sS -m 3 http://127.0.0.1:PORT/
! curl -sS -m 3 http://localhost:PORT/
! curl -sS -m 3 http://198.18.255.2:PORT/
! curl -sS -m 3 http://10.0.2.2:PORT/
! curl -sS -m 3 'http://[::1]:PORT/'
! curl -sS -m 3 http://SERVICE/
! curl -sS -m 3 http://169.254.169.254/latest/
! curl -sS -m 3 http://10.0.0.1/
! curl -sS -m 3 http://172.17.0.1/
! curl -sS -m 3 http://192.168.0.1/
! curl -sS -m 3 http://100.100.100.100/
! curl -sS -m 3 http://HOST:PORT/
test -z "$(cat /proc/net/unix | grep -v ^Num | grep -v @)"
`

func TestWhatAStepReachesOfTheNetwork(t *testing.T) {
	s := theServer(t)
	asked := 0
	inside := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { asked++; fmt.Fprint(w, "inside") }))
	l, err := net.Listen("tcp", "0.0.0.0:0")
	require.NoError(t, err)
	inside.Listener = l
	inside.Start()
	defer inside.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	tries := strings.NewReplacer("PORT", port, "SERVICE", s.listen, "HOST", ownAddress(t)).Replace(reaches)
	var script strings.Builder
	n := 0
	for line := range strings.Lines(strings.TrimSpace(tries)) {
		n++
		fmt.Fprintf(&script, "if sh -c %s; then echo held %d; else echo BROKEN %d; fi\n", quoted(strings.TrimSpace(line)), n, n)
	}
	script.WriteString("python3 -m http.server -b 127.0.0.1 " + port + " 2>/dev/null & sleep 0.7; curl -sS -m 3 http://127.0.0.1:" + port + "/ > /dev/null && echo its own loopback\n")
	r := s.script(t, "reaches", script.String())
	r.push()
	r.passes(1)
	log := r.logText(1, "main")
	assert.NotContains(t, log, "BROKEN", "%s", log)
	assert.Equal(t, n, strings.Count(log, "held "), "%s", log)
	assert.Contains(t, log, "its own loopback")
	assert.Zero(t, asked)
}

// ownAddress is one of this machine's addresses that is not loopback; one of a house when it has none.
func ownAddress(t *testing.T) string {
	t.Helper()
	list, err := net.InterfaceAddrs()
	require.NoError(t, err)
	for _, a := range list {
		if ip, ok := a.(*net.IPNet); ok && !ip.IP.IsLoopback() && ip.IP.To4() != nil && ip.IP.IsPrivate() {
			return ip.IP.String()
		}
	}
	return "192.168.0.2"
}

func TestWhatIsLetThroughAndTheMachinesOwnNetwork(t *testing.T) {
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "inside") }))
	defer inside.Close()
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "other") }))
	defer other.Close()
	address := strings.TrimPrefix(inside.URL, "http://")
	s := serve(t, "--let-through", address, "--network", "any")
	files := map[string]string{"piston/trunk.toml": fmt.Sprintf(`
[trigger.push]
[trigger.proposal]
[[job.through.step]]
script = "test \"$(curl -sS -m 5 %s)\" = inside; ! curl -sS -m 3 %s"
[[job.none.step]]
network = "none"
script = "! curl -sS -m 3 %s"
[[job.host.step]]
network = "host"
script = "test \"$(curl -sS -m 5 %s)\" = other"
`, inside.URL, other.URL, inside.URL, other.URL)}
	r := s.project(t, "let", files)
	r.push()
	d := r.run(1, true)
	states := func() map[string]state.State {
		m := map[string]state.State{}
		for _, j := range d.Jobs {
			m[j.Name] = j.State
		}
		return m
	}
	assert.Equal(t, map[string]state.State{"through": state.Passed, "none": state.Passed, "host": state.Failed}, states(), "%s", asJSON(d))
	require.NotNil(t, d.Failure)
	assert.Contains(t, d.Failure.Reason, "piston project network")
	out, code := s.piston(t, "", "project", "network", "let", "host")
	require.Zero(t, code, out)
	out, code = s.piston(t, "", "again", "let", "1")
	require.Zero(t, code, out)
	d = r.run(2, true)
	assert.Equal(t, map[string]state.State{"through": state.Passed, "none": state.Passed, "host": state.Passed}, states(), "%s", asJSON(d))
}

func TestAnOrdinaryRunnersStepsReachNothingInside(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("the shared service's runner is an ordinary user's already")
	}
	s := theServer(t)
	s.ordinaryRunner(t, "ordinary-net")
	r := s.project(t, "ordinary-net", map[string]string{"piston/trunk.toml": "[trigger.push]\n[job.main]\nmachine = [\"ordinary-net\"]\n[[job.main.step]]\nscript = '''\n" +
		"! curl -sS -m 3 http://" + s.listen + "/\n! curl -sS -m 3 http://198.18.255.2/\nid -u; cat /etc/resolv.conf\n'''\n"})
	r.push()
	r.passes(1)
	assert.Contains(t, r.logText(1, "main"), "nameserver 198.18.255.3")
}

func TestATrialReachesWhatItIsLetThroughTo(t *testing.T) {
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "inside") }))
	defer inside.Close()
	address := strings.TrimPrefix(inside.URL, "http://")
	s := theServer(t)
	r := s.script(t, "trial-inside", "curl -sS -m 5 "+inside.URL)
	out, code := r.inside(nil, "try")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "each job has a loopback of its own")
	assert.Contains(t, out, "--let-through "+address, "it says how to reach it")
	out, code = r.inside(nil, "try", "--let-through", address)
	assert.Zero(t, code, out)
	out, code = r.inside(nil, "try", "--let-through", "everything")
	assert.Equal(t, 2, code, out)
}
