package runner

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/source"
)

// fakeService takes what a runner tells and serves a repository to check out.
type fakeService struct {
	*httptest.Server
	mu       sync.Mutex
	lines    []logline.Line
	steps    []api.StepReport
	prepared bool
	finish   *api.Finish
	stop     chan api.Beat       // what the next beat answers
	gone     bool                // everything answers 410
	pack     func(string) string // what becomes of a commit on its way
}

func serveFake(t *testing.T, repo string) *fakeService {
	f := &fakeService{stop: make(chan api.Beat, 1)}
	programs, err := exec.Command("git", "--exec-path").Output()
	require.NoError(t, err)
	git := &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(programs)), "git-http-backend"), Root: "/git/p", Dir: "/",
		Env: append(source.Environment(nil), "GIT_PROJECT_ROOT="+repo, "GIT_HTTP_EXPORT_ALL=1")}
	mux := http.NewServeMux()
	mux.Handle("/git/p/", git)
	mux.HandleFunc("/git/p/pack/{commit}", func(w http.ResponseWriter, r *http.Request) {
		pack, err := source.Repo{Dir: repo}.Pack(r.Context(), r.PathValue("commit"))
		if err != nil {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		defer pack.Close()
		text, err := io.ReadAll(pack)
		assert.NoError(t, err)
		if f.pack != nil {
			text = []byte(f.pack(string(text)))
		}
		_, _ = w.Write(text)
	})
	mux.HandleFunc("/api/v1/runner/attempts/7/{what...}", func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		if r.PathValue("what") == "beat" {
			select {
			case b := <-f.stop:
				_ = json.NewEncoder(w).Encode(b)
			case <-time.After(time.Second):
				_ = json.NewEncoder(w).Encode(api.Beat{})
			case <-r.Context().Done():
			}
			return
		}
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.gone {
			w.WriteHeader(http.StatusGone)
			return
		}
		switch r.PathValue("what") {
		case "log":
			first, _ := strconv.ParseInt(r.URL.Query().Get("first"), 10, 64)
			lines, err := logline.Decode(first, text)
			assert.NoError(t, err)
			f.lines = append(f.lines, lines...)
		case "steps":
			var steps []api.StepReport
			assert.NoError(t, json.Unmarshal(text, &steps))
			f.steps = append(f.steps, steps...)
		case "prepared":
			f.prepared = true
		case "finish":
			f.finish = new(api.Finish)
			assert.NoError(t, json.Unmarshal(text, f.finish))
			_, _ = io.WriteString(w, "{}")
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	})
	f.Server = httptest.NewServer(mux)
	t.Cleanup(f.Close)
	return f
}

func (f *fakeService) text() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	var b strings.Builder
	for _, l := range f.lines {
		b.WriteString(l.Text + "\n")
	}
	return b.String()
}

// removePlace removes what a runner has elsewhere than in its own folder.
func removePlace(r *Runner) {
	if r.place != r.Home {
		_ = disk.RemoveAll(r.place)
	}
}

// execute runs a job of the given steps on a repository with one file.
func execute(t *testing.T, change func(*api.Work, *fakeService, *Runner), steps ...*definition.Step) *fakeService {
	t.Helper()
	repo := t.TempDir()
	git := func(args ...string) string {
		cmd := exec.Command("git", args...)
		cmd.Dir = repo
		cmd.Env = source.Environment(map[string]string{"user.name": "a", "user.email": "a@b.example"})
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	git("init", "-q")
	require.NoError(t, os.WriteFile(filepath.Join(repo, "file"), []byte("in the repository\n"), 0o644))
	git("add", "-A")
	git("commit", "-q", "-m", "one")
	f := serveFake(t, filepath.Join(repo, ".git"))
	home := t.TempDir()
	r, err := New(Config{Name: "test", Home: home, Isolation: sandbox.Bubblewrap, Network: sandbox.NetworkHost, Client: client.New(f.URL, "t"), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { removePlace(r) })
	require.NoError(t, r.clear())
	w := &api.Work{Attempt: 7, Number: 1, Project: "p", Run: 1, Commit: git("rev-parse", "HEAD"), Own: true, Remote: "/srv/p", Sources: map[string]string{"/srv/p": "/git/p"},
		Env: map[string]string{"WHO": "pipeline", "PISTON_RUN": "1"}, Job: &definition.Job{Name: "main", Limit: "1m", Env: map[string]string{"WHO": "job"}, Step: steps}}
	if change != nil {
		change(w, f, r)
	}
	networks := r.machine.Networks(t.Context(), nextNetworkAfter)
	defer networks.Close()
	(&slot{Runner: r, claiming: t.Context(), networks: networks}).execute(t.Context(), w)
	left, err := os.ReadDir(filepath.Join(r.place, "work"))
	require.NoError(t, err)
	assert.Empty(t, left, "the workspace is removed")
	return f
}

func TestAJobIsToldInOrder(t *testing.T) {
	f := execute(t, nil, &definition.Step{Name: "one", Script: "cat file; echo $WHO; chmod 500 ."}, &definition.Step{Name: "two", Script: "echo $WHO", Env: map[string]string{"WHO": "step"}})
	require.NotNil(t, f.finish)
	assert.Equal(t, state.Passed, f.finish.State, f.finish.Reason)
	assert.True(t, f.prepared)
	assert.EqualValues(t, len(f.lines), f.finish.Lines)
	var told []string
	for _, s := range f.steps {
		told = append(told, strconv.Itoa(s.Step)+" "+string(s.State))
	}
	assert.Equal(t, []string{"0 running", "0 passed", "1 running", "1 passed"}, told)
	assert.Contains(t, f.text(), "in the repository\njob\nstep\n", "the most specific value wins")
	for i, l := range f.lines {
		assert.EqualValues(t, i+1, l.N)
	}
	assert.Equal(t, "in the repository", f.lines[f.steps[1].FirstLine-1].Text)
}

func TestAStepThatFailsEndsTheJob(t *testing.T) {
	f := execute(t, nil, &definition.Step{Name: "bad", Script: "echo fine; echo 'error: broken'; exit 7"}, &definition.Step{Name: "never", Script: "echo never"})
	assert.Equal(t, state.Failed, f.finish.State)
	assert.Contains(t, f.finish.Reason, "exit code 7")
	require.Len(t, f.steps, 3)
	assert.Equal(t, state.Skipped, f.steps[2].State)
	assert.Equal(t, 7, *f.steps[1].ExitCode)
	assert.Equal(t, "error: broken", f.steps[1].Excerpt[0].Text)
	assert.NotContains(t, f.text(), "never")

	f = execute(t, nil, &definition.Step{Name: "killed", Script: "kill -9 $$"})
	assert.Equal(t, 137, *f.steps[1].ExitCode, "as the shell counts: 128 and the signal")
	f = execute(t, nil, &definition.Step{Name: "astray", Dir: "no/such/folder", Script: "true"})
	assert.Contains(t, f.finish.Reason, "no/such/folder")
}

func TestAFailureTellsItsCause(t *testing.T) {
	f := execute(t, nil, &definition.Step{Name: "build", Script: "no-such-builder --release"})
	assert.Contains(t, f.finish.Reason, `exit code 127: this runner has no program no-such-builder`)
	assert.Contains(t, f.steps[1].Reason, `tools = { no-such-builder = "*" }`)
	f = execute(t, nil, &definition.Step{Name: "fetch", Network: "none", Script: "echo 'curl: (6) Could not resolve host: depot.example'; exit 6"})
	assert.Contains(t, f.finish.Reason, "the step has no network")
	f = execute(t, func(w *api.Work, _ *fakeService, _ *Runner) {
		w.Job.Keep = map[string]*definition.Keep{"app": {Files: []string{"out/Ringlog.apk"}}}
	}, &definition.Step{Name: "build", Script: "mkdir out; echo x > out/ringlog.apk"})
	assert.Contains(t, f.finish.Reason, "nothing matches out/Ringlog.apk; there is out/ringlog.apk")
}

func TestAnAlmostFullDiskEndsTheJobThatFillsIt(t *testing.T) {
	full := func(_ *api.Work, _ *fakeService, r *Runner) {
		r.use.Space = func(string) (disk.Space, error) { return disk.Space{Free: 1 << 20, Total: 100 << 20}, nil } // keeps 5 MiB free
	}
	f := execute(t, full, &definition.Step{Name: "fill", Script: "head -c 6000000 /dev/urandom > big; sleep 60"})
	assert.Equal(t, state.Failed, f.finish.State)
	assert.Contains(t, f.finish.Reason, "the job's limit of disk is reached: its files take 6.0")
	assert.Contains(t, f.finish.Reason, "and the runner's disk has 1.0 MB left")
	f = execute(t, full, &definition.Step{Name: "little", Script: "head -c 100000 /dev/urandom > small; sleep 2"})
	assert.Equal(t, state.Passed, f.finish.State, "who takes little is not to blame: %s", f.finish.Reason)
}

func TestAStopReachesTheStep(t *testing.T) {
	began := time.Now()
	f := execute(t, func(_ *api.Work, f *fakeService, _ *Runner) {
		time.AfterFunc(500*time.Millisecond, func() { f.stop <- api.Beat{Stop: true, Reason: "stopped by ada"} })
	}, &definition.Step{Name: "long", Script: "echo begun; sleep 60"})
	assert.Less(t, time.Since(began), 15*time.Second)
	assert.Equal(t, state.Cancelled, f.finish.State)
	assert.Equal(t, "stopped by ada", f.finish.Reason)
}

func TestALostAttemptIsLeftAlone(t *testing.T) {
	f := execute(t, func(_ *api.Work, f *fakeService, _ *Runner) {
		time.AfterFunc(400*time.Millisecond, func() { f.mu.Lock(); f.gone = true; f.mu.Unlock() })
	}, &definition.Step{Name: "long", Script: "while :; do echo again; sleep 0.1; done"})
	assert.Nil(t, f.finish, "nobody wants to hear how it ended")
}

func TestACommitThatIsNotThere(t *testing.T) {
	f := execute(t, func(w *api.Work, _ *fakeService, _ *Runner) { w.Commit = strings.Repeat("0", 39) + "1" }, &definition.Step{Script: "true"})
	assert.Equal(t, state.Failed, f.finish.State)
	assert.Contains(t, f.finish.Reason, "checking out")
	assert.False(t, f.prepared)
}

func TestSecretsForAnotherRunnerAreRefused(t *testing.T) {
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	f := execute(t, func(w *api.Work, _ *fakeService, _ *Runner) {
		var b strings.Builder
		sealed, err := age.Encrypt(&b, other.Recipient())
		require.NoError(t, err)
		_, _ = sealed.Write([]byte(`{"KEY":"dmFsdWU="}`))
		require.NoError(t, sealed.Close())
		w.Secrets = []byte(b.String())
	}, &definition.Step{Script: "true"})
	assert.Contains(t, f.finish.Reason, "not sealed to this runner")
}

func TestARunnerThatEndsKillsItsSteps(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	r, err := New(Config{Name: "t", Home: t.TempDir(), Isolation: sandbox.Bubblewrap, Network: sandbox.NetworkHost, Client: client.New("http://127.0.0.1:1", "t"), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	done := make(chan error, 1)
	go func() { done <- r.Run(ctx, nil) }()
	time.Sleep(300 * time.Millisecond)
	cancel()
	select {
	case err := <-done:
		assert.NoError(t, err)
	case <-time.After(10 * time.Second):
		t.Fatal("a runner without a service does not end")
	}
}
