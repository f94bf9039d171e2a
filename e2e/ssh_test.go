package e2e

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/source"
)

// gitHost serves the repositories of a folder by SSH, to who has one key.
type gitHost struct {
	address string
	line    string // what ssh-keyscan would print of it
	top     string
	asked   atomic.Int32 // connections
}

// newKey makes a private key, and gives it as ssh-keygen writes it, too.
func newKey(t *testing.T) (signer ssh.Signer, text string) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err = ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	return signer, string(pem.EncodeToMemory(block))
}

func serveGitHost(t *testing.T, may ssh.PublicKey) *gitHost {
	own, _ := newKey(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	h := &gitHost{address: l.Addr().String(), top: t.TempDir()}
	host, port, _ := net.SplitHostPort(h.address)
	h.line = fmt.Sprintf("[%s]:%s %s", host, port, keyLine(own))
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if string(key.Marshal()) != string(may.Marshal()) {
			return nil, fmt.Errorf("a stranger's key")
		}
		return nil, nil
	}}
	config.AddHostKey(own)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			h.asked.Add(1)
			go h.serve(c, config)
		}
	}()
	return h
}

func (h *gitHost) serve(c net.Conn, config *ssh.ServerConfig) {
	defer c.Close()
	_, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for asked := range channels {
		channel, requests, err := asked.Accept()
		if err != nil {
			return
		}
		go h.session(channel, requests)
	}
}

func (h *gitHost) session(channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	env := source.Environment(nil)
	for r := range requests {
		if r.Type == "env" {
			var set struct{ Name, Value string }
			_ = ssh.Unmarshal(r.Payload, &set)
			env = append(env, set.Name+"="+set.Value)
			_ = r.Reply(true, nil)
			continue
		}
		var run struct{ Command string }
		_ = ssh.Unmarshal(r.Payload, &run)
		_ = r.Reply(r.Type == "exec", nil)
		cmd := exec.Command("sh", "-c", run.Command)
		cmd.Dir, cmd.Env = h.top, env
		cmd.Stdout, cmd.Stderr = channel, channel.Stderr()
		in, err := cmd.StdinPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			return
		}
		go func() { _, _ = io.Copy(in, channel) }() // git leaves its side open while it waits for an answer
		_ = cmd.Wait()
		status := struct{ Code uint32 }{uint32(cmd.ProcessState.ExitCode())}
		_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(status))
		return
	}
}

// withSubmodule commits a submodule of an address at a commit that only its host has.
func (r *repo) withSubmodule(address, commit string, files map[string]string) {
	r.t.Helper()
	files[".gitmodules"] = "[submodule \"charts\"]\n\tpath = charts\n\turl = " + address + "\n"
	r.write(files)
	r.git("update-index", "--add", "--cacheinfo", "160000,"+commit+",charts")
	r.git("add", ".gitmodules", "piston")
	r.git("commit", "-q", "--allow-empty", "-m", "Take the charts from "+address)
	r.push()
}

func TestASubmoduleThatOnlyAKeyOpens(t *testing.T) {
	may, key := newKey(t)
	host := serveGitHost(t, may.PublicKey())
	charts := filepath.Join(host.top, "the charts.git")
	work := &repo{t: t, dir: t.TempDir()}
	work.git("init", "-q", "-b", "main")
	work.commit("Charts", map[string]string{"chart.txt": "a chart behind a key\n"})
	work.git("clone", "-q", "--bare", work.dir, charts)
	at := work.git("rev-parse", "HEAD")

	s := serve(t, "--let-through", host.address)
	r := s.project(t, "keyed", map[string]string{"piston/trunk.toml": onPush("true")})
	address := "ssh://git@" + host.address + "/" + charts
	pipeline := func(line string) map[string]string {
		return map[string]string{"piston/trunk.toml": fmt.Sprintf("[trigger.push]\n[trigger.proposal]\n[job.main.submodules]\nkey = \"CHARTS_KEY\"\nhosts = [%q]\n"+
			"[[job.main.step]]\nscript = '''\ncat charts/chart.txt\ngit -C charts remote -v\n! env | grep CHARTS_KEY\n! grep -rIl 'OPENSSH[ ]PRIVATE' . /tmp 2>/dev/null\n'''\n", line)}
	}
	set := func(text string) {
		out, code := s.piston(t, text, "secret", "set", "keyed", "CHARTS_KEY")
		require.Zero(t, code, out)
	}
	set(key)
	r.withSubmodule(address, at, pipeline(host.line))
	r.passes(1)
	log := r.logText(1, "main")
	assert.Contains(t, log, "a chart behind a key")
	assert.Contains(t, log, address, "the submodule is said to be from where it is from")
	assert.NotContains(t, log, "OPENSSH PRIVATE")

	_, strangers := newKey(t)
	other, _ := newKey(t)
	fields := strings.Fields(host.line)
	lying := fields[0] + " " + keyLine(other)
	for n, c := range []struct{ address, line, key, says string }{
		{address, lying, key, "which submodules.hosts of the pipeline does not name"},
		{address, host.line, strangers, "unable to authenticate"},
		{"git@elsewhere.tidewick.example:charts.git", host.line, key, "nothing names the key of the host elsewhere.tidewick.example:22"},
		{"ssh://" + host.address + "/nowhere.git", host.line, key, "refuses /nowhere.git"},
		{"ssh://" + host.address + "/x';touch$IFS" + filepath.Join(host.top, "hurt") + ";'", host.line, key, "refuses /x"},
		{"git://" + host.address + "/x.git", host.line, key, "is not fetched by https or ssh"},
		{address, host.line, "something else\n", "CHARTS_KEY: it is no private SSH key"},
	} {
		set(c.key)
		r.withSubmodule(c.address, at, pipeline(c.line))
		d := r.run(record.RunNumber(n+2), true)
		assert.Equal(t, state.Failed, d.State, c.says)
		assert.Contains(t, d.Reason, c.says)
	}
	assert.NoFileExists(t, filepath.Join(host.top, "hurt"))
}

func TestAHostInsideIsNotAskedByAKeyEither(t *testing.T) {
	may, key := newKey(t)
	host := serveGitHost(t, may.PublicKey())
	s := theServer(t)
	r := s.project(t, "keyed-inside", map[string]string{"piston/trunk.toml": onPush("true")})
	out, code := s.piston(t, key, "secret", "set", "keyed-inside", "CHARTS_KEY")
	require.Zero(t, code, out)
	r.withSubmodule("ssh://"+host.address+"/x.git", r.git("rev-parse", "HEAD"), map[string]string{"piston/trunk.toml": fmt.Sprintf(
		"[trigger.push]\n[job.main.submodules]\nkey = \"CHARTS_KEY\"\nhosts = [%q]\n[[job.main.step]]\nscript = \"true\"\n", host.line)})
	d := r.run(1, true)
	assert.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Reason, "is not an address that a repository may make a runner speak to")
	assert.Zero(t, host.asked.Load())
}

// keyLine is a public key as ssh-keyscan prints it, without the host.
func keyLine(of ssh.Signer) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(of.PublicKey())))
}
