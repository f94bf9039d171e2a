// Package e2e tests the service through its real doors: git push, the command line, HTTP, and the console in a browser.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/local"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/source"
)

// binary is the program under test: the one make built, or one built here.
var binary = sync.OnceValue(func() string {
	if b := os.Getenv("PISTON_BINARY"); b != "" {
		return b
	}
	dir, err := os.MkdirTemp("", "piston-e2e-")
	if err != nil {
		panic(err)
	}
	file := filepath.Join(dir, "piston")
	if out, err := exec.Command("go", "build", "-o", file, "../cmd/piston").CombinedOutput(); err != nil {
		panic(string(out))
	}
	return file
})

// server is a service of its own, as piston serve runs it.
type server struct {
	home, listen, password, config string
	args                           []string
	env                            []string
	cmd                            *exec.Cmd
	log                            *syncBuffer
	cl                             *client.Client
}

// syncBuffer is a buffer that a process writes and a test reads.
type syncBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *syncBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *syncBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// folder is a new one that is removed with the database the service keeps elsewhere when the tests run as root.
func folder(t testing.TB) string {
	dir, err := os.MkdirTemp("", "piston-e2e-")
	require.NoError(t, err)
	t.Cleanup(func() {
		exec.Command("chmod", "-R", "u+rwX", dir).Run()
		local.RemoveFolder(dir)
	})
	return dir
}

func freePort(t testing.TB) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// serve starts a service and signs in. args are further ones of piston serve.
func serve(t testing.TB, args ...string) *server {
	t.Helper()
	return serveWith(t, nil, args...)
}

// serveWith is serve with further environment variables.
func serveWith(t testing.TB, env []string, args ...string) *server {
	t.Helper()
	s := &server{home: folder(t), listen: freePort(t), args: args, env: env}
	s.config = filepath.Join(s.home, "client.json")
	s.start(t)
	t.Cleanup(func() { s.stop(t) })
	found := regexp.MustCompile(`with the password\s+(\S+)`).FindStringSubmatch(s.log.String())
	require.Len(t, found, 2, "the first start shows a password: %s", s.log)
	s.password = found[1]
	out, code := s.piston(t, s.password+"\n", "sign-in", "http://"+s.listen)
	require.Zero(t, code, out)
	text, err := os.ReadFile(s.config)
	require.NoError(t, err)
	var settings struct{ Server, Token string }
	require.NoError(t, json.Unmarshal(text, &settings))
	s.cl = client.New(settings.Server, settings.Token)
	s.cl.Patience = 20 * time.Second
	return s
}

// start runs the program until it serves.
func (s *server) start(t testing.TB) {
	t.Helper()
	s.log = &syncBuffer{}
	s.cmd = exec.Command(binary(), append([]string{"serve", "--home", s.home, "--listen", s.listen}, s.args...)...)
	s.cmd.Env = append(os.Environ(), s.env...)
	s.cmd.Stdout, s.cmd.Stderr = s.log, s.log
	s.cmd.WaitDelay = time.Second // a runner that outlives a killed service holds its output open
	require.NoError(t, s.cmd.Start())
	require.Eventually(t, func() bool { return strings.Contains(s.log.String(), "Ctrl-C stops it") }, 60*time.Second, 20*time.Millisecond, "%s", s.log)
}

// stop ends it as Ctrl-C does; it must end well.
func (s *server) stop(t testing.TB) {
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Signal(syscall.SIGINT)
	err := s.cmd.Wait()
	if err != nil || t.Failed() {
		t.Logf("the service ended with %v; its log:\n%s", err, s.log)
	}
	s.cmd = nil
}

// piston runs a command against the service and returns what it printed and its exit code.
func (s *server) piston(t testing.TB, input string, args ...string) (string, int) {
	t.Helper()
	return s.pistonIn(t, "", input, args...)
}

// pistonIn runs it in a folder.
func (s *server) pistonIn(t testing.TB, dir, input string, args ...string) (string, int) {
	t.Helper()
	cmd := exec.Command(binary(), args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "PISTON_CONFIG="+s.config, "NO_COLOR=1")
	cmd.Stdin = strings.NewReader(input)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	if _, exit := err.(*exec.ExitError); err != nil && !exit {
		require.NoError(t, err)
	}
	return out.String(), cmd.ProcessState.ExitCode()
}

// repo is a bare repository that is a project, and a work tree of it.
type repo struct {
	t               testing.TB
	s               *server
	name, bare, dir string
}

// project makes a repository with the given files, registers it and pushes them to main.
func (s *server) project(t testing.TB, name string, files map[string]string) *repo {
	t.Helper()
	top := filepath.Join(s.home, "repos", name)
	r := &repo{t: t, s: s, name: name, bare: filepath.Join(top, name+".git"), dir: filepath.Join(top, "work")}
	require.NoError(t, os.MkdirAll(r.dir, 0o755))
	r.git("init", "-q", "--bare", "-b", "main", r.bare)
	r.git("init", "-q", "-b", "main")
	r.git("remote", "add", "origin", r.bare)
	out, code := s.piston(t, "", "project", "add", name, r.bare)
	require.Zero(t, code, out)
	r.commit("First", files)
	return r
}

// pipeline is a project whose one pipeline runs a script on every push.
func (s *server) script(t testing.TB, name, script string) *repo {
	t.Helper()
	return s.project(t, name, map[string]string{"piston/trunk.toml": onPush(script)})
}

// onPush is a pipeline file with one job, main, of one step.
func onPush(script string) string {
	return fmt.Sprintf("[trigger.push]\n[[job.main.step]]\nname = \"run\"\nscript = '''\n%s\n'''\n", script)
}

func (r *repo) git(args ...string) string {
	r.t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = r.dir
	cmd.Env = append(source.Environment(map[string]string{"user.name": "Ada Quill", "user.email": "ada@tidewick.example"}),
		"GIT_ALLOW_PROTOCOL=file", "GIT_CONFIG_COUNT=2", "GIT_CONFIG_KEY_0=user.name", "GIT_CONFIG_VALUE_0=Ada Quill",
		"GIT_CONFIG_KEY_1=user.email", "GIT_CONFIG_VALUE_1=ada@tidewick.example")
	out, err := cmd.CombinedOutput()
	require.NoError(r.t, err, "git %s: %s", strings.Join(args, " "), out)
	return strings.TrimSpace(string(out))
}

// write lays files into the work tree.
func (r *repo) write(files map[string]string) {
	r.t.Helper()
	for name, text := range files {
		path := filepath.Join(r.dir, name)
		require.NoError(r.t, os.MkdirAll(filepath.Dir(path), 0o755))
		mode := os.FileMode(0o644)
		if strings.HasPrefix(text, "#!") {
			mode = 0o755
		}
		require.NoError(r.t, os.WriteFile(path, []byte(text), mode))
	}
}

func (r *repo) commit(message string, files map[string]string) {
	r.t.Helper()
	r.write(files)
	r.git("add", "-A")
	r.git("commit", "-q", "--allow-empty", "-m", message)
}

func (r *repo) push(refs ...string) {
	r.t.Helper()
	if len(refs) == 0 {
		refs = []string{"main"}
	}
	r.git(append([]string{"push", "-q", "origin"}, refs...)...)
}

// run waits until a run is there and, when over is set, at its end.
func (r *repo) run(number record.RunNumber, over bool) api.RunDetail {
	r.t.Helper()
	return r.await(number, 120*time.Second, func(d api.RunDetail) bool { return !over || d.State.Over() })
}

func (r *repo) await(number record.RunNumber, within time.Duration, done func(api.RunDetail) bool) api.RunDetail {
	r.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	var d api.RunDetail
	var err error
	for ctx.Err() == nil {
		d, err = r.s.cl.Run(ctx, r.name, number)
		if err == nil && done(d) {
			return d
		}
		time.Sleep(30 * time.Millisecond)
	}
	require.FailNow(r.t, "the run did not get there", "run %d of %s: %v; %s; log of the service:\n%s", number, r.name, err, asJSON(d), r.s.log)
	return d
}

// passes waits for a run that must pass.
func (r *repo) passes(number record.RunNumber) api.RunDetail {
	r.t.Helper()
	d := r.run(number, true)
	require.Equal(r.t, state.Passed, d.State, "%s\n%s", asJSON(d), r.logText(number, "main"))
	return d
}

// logText is a job's whole log.
func (r *repo) logText(number record.RunNumber, job string) string {
	r.t.Helper()
	out, _ := r.s.piston(r.t, "", "log", r.name, fmt.Sprint(number), "--job", job)
	return out
}

func asJSON(v any) string {
	text, _ := json.MarshalIndent(v, "", " ")
	return string(text)
}

// shared is one service for the tests that do not harm it.
var shared struct {
	once sync.Once
	s    *server
}

func TestMain(m *testing.M) {
	code := m.Run()
	if shared.s != nil {
		if code != 0 {
			os.Stderr.WriteString("the log of the shared service:\n" + shared.s.log.String())
		}
		shared.s.cmd.Process.Signal(syscall.SIGINT)
		shared.s.cmd.Wait()
		local.RemoveFolder(shared.s.home)
	}
	testdb.Stop()
	os.Exit(code)
}

// keep is a testing.TB whose clean-up is left to TestMain.
type keep struct{ testing.TB }

func (keep) Cleanup(func()) {}

func theServer(t *testing.T) *server {
	t.Helper()
	shared.once.Do(func() { shared.s = serve(keep{t}, "--slots", "3") })
	require.NotNil(t, shared.s, "the shared service did not start")
	return shared.s
}

// runnerToken makes a token for a runner and writes it into a file of a folder.
func (s *server) runnerToken(t testing.TB, name, folder string) (file string) {
	t.Helper()
	out, code := s.piston(t, "", "token", "add", "--runner", name)
	require.Zero(t, code, out)
	fields := strings.Fields(out)
	file = filepath.Join(folder, "token")
	require.NoError(t, os.WriteFile(file, []byte(fields[len(fields)-1]), 0o600))
	return file
}

// begin starts a runner's process, which ends with the test; of a test that fails its log is told.
func begin(t testing.TB, cmd *exec.Cmd) {
	t.Helper()
	log := &syncBuffer{}
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
		if t.Failed() {
			t.Logf("the runner's log:\n%s", log)
		}
	})
}
