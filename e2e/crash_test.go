package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// runnerPid finds the runner that belongs to a service, by its folder on the command line. One that was killed before
// may be about to be started again.
func (s *server) runnerPid(t *testing.T) int {
	t.Helper()
	var out []byte
	require.Eventually(t, func() (is bool) {
		var err error
		out, err = exec.Command("pgrep", "-f", "runner --server .*--home "+filepath.Join(s.home, "runner")).Output()
		return err == nil
	}, 30*time.Second, 50*time.Millisecond, "no runner of %s", s.home)
	pid, err := strconv.Atoi(strings.Fields(string(out))[0])
	require.NoError(t, err)
	return pid
}

// postgresPid finds the service's PostgreSQL by its own file.
func (s *server) postgresPid(t *testing.T) int {
	t.Helper()
	dir := filepath.Join(s.home, "postgres")
	if place, err := os.ReadFile(filepath.Join(s.home, "postgres.folder")); err == nil {
		dir = strings.TrimSpace(string(place))
	}
	text, err := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.Fields(string(text))[0])
	require.NoError(t, err)
	return pid
}

const counting = "i=0; while [ $i -lt 60 ]; do echo line $i; sleep 0.1; i=$((i+1)); done"

// shows waits until a job's log has a line.
func (r *repo) shows(run record.RunNumber, text string) {
	r.t.Helper()
	require.Eventually(r.t, func() bool {
		part, err := r.s.cl.Log(context.Background(), r.name, run, "main", client.LogQuery{Tail: 50, Limit: 50})
		return err == nil && strings.Contains(asJSON(part.Lines), `"`+text+`"`)
	}, 30*time.Second, 30*time.Millisecond)
}

func TestARunnerThatIsKilledLosesNoRun(t *testing.T) {
	t.Parallel()
	s := serve(t, "--slots", "1")
	r := s.script(t, "killed", "echo attempt $PISTON_ATTEMPT build $PISTON_BUILD_NUMBER; "+counting)
	r.push()
	r.run(1, false)
	r.shows(1, "line 10")
	require.NoError(t, syscall.Kill(s.runnerPid(t), syscall.SIGKILL))
	killed := time.Now()
	d := r.await(1, 60*time.Second, func(d api.RunDetail) bool { return d.Jobs[0].Attempt == 2 && d.Jobs[0].Claimed != nil })
	assert.Less(t, time.Since(killed), 30*time.Second+15*time.Second, "tried again within 30 s of its lease of 15 s")
	t.Logf("tried again %.1f s after the kill", time.Since(killed).Seconds())
	assert.Contains(t, d.Jobs[0].Attempts[0].Reason, "was lost")
	d = r.passes(1)
	assert.EqualValues(t, 1, d.BuildNumber)
	assert.Contains(t, r.logText(1, "main"), "attempt 2 build 1", "the number stays the run's")
	first, code := s.piston(t, "", "log", "killed", "1", "--job", "main", "--attempt", "1")
	require.Zero(t, code)
	assert.Contains(t, first, "line 10", "the lost attempt stays readable")
}

func TestARunnerThatIsEndedInOrderHandsItsJobBack(t *testing.T) {
	t.Parallel()
	s := serve(t, "--slots", "1")
	r := s.script(t, "ended", "echo attempt $PISTON_ATTEMPT; "+counting)
	r.push()
	r.run(1, false)
	const restarts = 4 // more than a lost runner is forgiven
	for n := range restarts {
		r.await(1, 60*time.Second, func(d api.RunDetail) bool { return d.Jobs[0].Attempt == n+1 && d.Jobs[0].Prepared != nil })
		began := time.Now()
		require.NoError(t, syscall.Kill(s.runnerPid(t), syscall.SIGTERM))
		d := r.await(1, 60*time.Second, func(d api.RunDetail) bool { return d.Jobs[0].Attempt == n+2 })
		assert.Contains(t, d.Jobs[0].Attempts[n].Reason, "handed back: runner local is ending")
		r.await(1, 60*time.Second, func(d api.RunDetail) bool { return d.Jobs[0].Attempt == n+2 && d.Jobs[0].Claimed != nil })
		assert.Less(t, time.Since(began), 12*time.Second, "at once, not after its lease")
	}
	d := r.passes(1)
	assert.Equal(t, restarts+1, d.Jobs[0].Attempt)
}

func TestAServerThatIsKilledLosesNoRunAndNoLine(t *testing.T) {
	t.Parallel()
	s := serve(t, "--slots", "1")
	r := s.script(t, "crashed", counting)
	r.push()
	r.run(1, false)
	// Everything a reader is shown before, during and after the crash, in one stream that comes back by itself.
	var shown []logline.Line
	reading, stop := context.WithTimeout(t.Context(), 90*time.Second)
	defer stop()
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = s.cl.Stream(reading, client.Topic{Project: "crashed", Run: 1, Log: "*"}, "", func(e client.Event) error {
			if e.Log != nil {
				shown = append(shown, e.Log.Lines...)
			}
			if n := len(shown); n > 0 && shown[n-1].Text == "line 59" {
				return context.Canceled
			}
			return nil
		})
	}()
	r.shows(1, "line 10")
	runner := s.runnerPid(t)
	require.NoError(t, s.cmd.Process.Kill())
	_ = s.cmd.Wait()

	// A push while the service is away is taken by the repository, and built when it is back.
	r.commit("While it was away", nil)
	r.push()
	time.Sleep(500 * time.Millisecond)
	s.start(t)
	d := r.passes(1)
	assert.Equal(t, 1, d.Jobs[0].Attempt, "the runner went on with the job")
	<-done
	for i, l := range shown {
		require.EqualValues(t, i+1, l.N, "a line is missing or doubled")
	}
	assert.Equal(t, "line 59", shown[len(shown)-1].Text)
	assert.Equal(t, "While it was away", r.passes(2).Subject)
	require.Eventually(t, func() bool { return s.runnerPid(t) != runner }, 10*time.Second, 100*time.Millisecond, "a runner of the new service took over")
}

func TestAPostgresThatIsKilledIsWaitedFor(t *testing.T) {
	t.Parallel()
	s := serve(t, "--slots", "1")
	r := s.script(t, "dbless", counting)
	r.push()
	r.run(1, false)
	r.shows(1, "line 10")
	before := s.postgresPid(t)
	require.NoError(t, syscall.Kill(before, syscall.SIGKILL))
	d := r.passes(1)
	assert.Equal(t, 1, d.Jobs[0].Attempt)
	assert.NotEqual(t, before, s.postgresPid(t))
	log := r.logText(1, "main")
	for i := range 60 {
		require.Contains(t, log, fmt.Sprintf("line %d\n", i))
	}
	r.commit("After it", nil)
	r.push()
	r.passes(2)
}

func TestStartsThatCannotBe(t *testing.T) {
	s := theServer(t)
	run := func(args ...string) (string, int) { return s.piston(t, "", args...) }
	out, code := run("serve", "--home", folder(t), "--listen", s.listen)
	assert.NotZero(t, code)
	assert.Contains(t, out, "taken by another program")
	assert.Contains(t, out, "--listen")
	out, code = run("serve", "--home", s.home, "--listen", freePort(t))
	assert.NotZero(t, code)
	assert.Contains(t, out, "in use by process")
	out, code = run("serve", "--home", folder(t), "--listen", "0.0.0.0:0")
	assert.NotZero(t, code)
	assert.Contains(t, out, "loopback")
	out, code = run("serve", "--home", folder(t), "--listen", freePort(t), "--isolation", "prayer", "--nonsense")
	assert.Equal(t, 2, code, out)
	out, code = run("runner", "--server", "http://"+s.listen, "--home", folder(t), "--isolation", "prayer", "--token-file", "/dev/null")
	assert.NotZero(t, code)
	assert.Contains(t, out, "bubblewrap or none")
	out, code = run("frobnicate")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "no command")
}

func TestASecondRunnerJoinsWithAToken(t *testing.T) {
	s := serve(t, "--slots", "0")
	r := s.project(t, "joined", map[string]string{"piston/trunk.toml": "[trigger.push]\n[job.main]\nmachine = [\"linux\", \"attic\"]\n[[job.main.step]]\nscript = \"pwd; echo ${PISTON_TOKEN:-no token}\"\n"})
	r.push()
	assert.Equal(t, state.Queued, r.run(1, false).State)
	token, code := s.piston(t, "", "token", "add", "--runner", "attic box")
	require.Zero(t, code)
	log := &syncBuffer{}
	cmd := exec.Command(binary(), "runner", "--server", "http://"+s.listen, "--name", "attic", "--home", folder(t), "--label", "attic", "--isolation", "none")
	cmd.Env = append(os.Environ(), "PISTON_TOKEN="+strings.TrimSpace(token))
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(t, cmd.Start())
	r.passes(1)
	assert.Contains(t, r.logText(1, "main"), "no token", "the runner's token stays with the runner")
	out, _ := s.piston(t, "", "runners")
	assert.Contains(t, out, "attic")
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait(), "%s", log)
	out, code = s.piston(t, "", "token", "list", "--json")
	require.Zero(t, code)
	assert.NotContains(t, out, strings.TrimSpace(token))
}
