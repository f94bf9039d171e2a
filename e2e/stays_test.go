package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
)

const fails = `[trigger.push]
[job.main]
stay = "10m"
[[job.main.step]]
name = "make"
script = "mkdir -p out && echo made > out/a.txt && printf '#!/bin/sh\n' > out/tool && chmod +x out/tool && ln -s /etc/passwd out/away"
[[job.main.step]]
name = "test"
dir = "out"
env = { SHORE = "west" }
secrets = ["UPLOAD_KEY"]
script = "echo $UPLOAD_KEY > leaks.txt; exit 3"
`

// stands is a project whose only run has failed and left its workspace.
func (s *server) stands(t *testing.T, name string) *repo {
	t.Helper()
	r := s.project(t, name, map[string]string{"README": "x"})
	out, code := s.piston(t, "the-upload-key-itself", "secret", "set", name, "UPLOAD_KEY", "--any")
	require.Zero(t, code, out)
	r.commit("Fail", map[string]string{"piston/trunk.toml": fails})
	r.push()
	d := r.run(1, true)
	require.Equal(t, state.Failed, d.State, "%s", asJSON(d))
	require.Eventually(t, func() bool { return s.stay(t, name).State == api.StayStays }, 20*time.Second, 20*time.Millisecond)
	return r
}

// stay is the latest of a project.
func (s *server) stay(t *testing.T, project string) (one api.Stay) {
	t.Helper()
	list, err := s.cl.Stays(t.Context(), api.StayFilter{Project: project, Over: true, Limit: 1})
	require.NoError(t, err)
	if len(list) > 0 {
		one = list[0]
	}
	return one
}

func TestAFailedWorkspaceCanBeLookedAroundIn(t *testing.T) {
	s := theServer(t)
	s.stands(t, "looked")
	out, code := s.piston(t, "", "shell", "looked", "-c", `pwd; id -un; echo "$SHORE, $UPLOAD_KEY."; cat leaks.txt; ls -1; false; exit 7`)
	assert.Equal(t, 7, code, out)
	for _, wanted := range []string{"/build/src/out\n", "build\n", "west, .\n", "‹hidden›\n", "a.txt\n"} {
		assert.Contains(t, out, wanted)
	}
	out, code = s.piston(t, "echo $((6 * 7)) > answer; cat answer\n", "shell", "looked", "1", "--job", "main")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "42\n")
	out, code = s.piston(t, "", "shell", "looked", "-c", "cat answer; exec sleep 0.1", "--json")
	assert.Zero(t, code, out)
	assert.Contains(t, out, `"output": "42\n"`, "what one has left the next finds")

	// It is in the sandbox: neither the machine, nor the runner, nor the service is there.
	port := s.listen[strings.LastIndex(s.listen, ":")+1:]
	out, _ = s.piston(t, "", "shell", "looked", "-c", fmt.Sprintf(`ls %s %s /root 2>&1; touch /usr/x /etc/x 2>&1
		bash -c 'echo > /dev/tcp/127.0.0.1/%s' 2>&1 && echo reached; ps -e 2>/dev/null | grep -c piston; kill -9 -1; echo gone`,
		s.home, s.workFolder(t, ""), port))
	assert.NotContains(t, out, "reached")
	assert.NotContains(t, out, "client.json")
	assert.NotContains(t, out, "runner.id")
	assert.Equal(t, 2, strings.Count(out, "touch: cannot touch"), out)
	assert.Equal(t, api.StayStays, s.stay(t, "looked").State, "it hurts itself only")

	to := filepath.Join(folder(t), "got")
	out, code = s.piston(t, "", "get", "looked", "1", "out/tool", "--workspace", "--to", to)
	require.Zero(t, code, out)
	info, err := os.Stat(filepath.Join(to, "out", "tool"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o755), info.Mode())
	out, code = s.piston(t, "", "get", "looked", "1", "out/tool", "--workspace", "--to", to)
	assert.Equal(t, 3, code, "nothing is replaced: %s", out)
	out, code = s.piston(t, "", "get", "looked", "1", "--workspace", "--to", to+"2")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "UPLOAD_KEY", "what holds a secret does not leave")
	_, _ = s.piston(t, "", "shell", "looked", "-c", "rm leaks.txt")
	out, code = s.piston(t, "", "get", "looked", "1", "--workspace", "--to", to+"3")
	require.Zero(t, code, out)
	assert.FileExists(t, filepath.Join(to+"3", "piston", "trunk.toml"))
	assert.NoFileExists(t, filepath.Join(to+"3", "out", "away"))
	assert.NoDirExists(t, filepath.Join(to+"3", ".git"))

	var shells []api.Shell
	out, code = s.piston(t, "", "shells", "looked", "--json")
	require.Zero(t, code, out)
	require.NoError(t, json.Unmarshal([]byte(out), &shells))
	require.NotEmpty(t, shells)
	first := shells[len(shells)-1]
	out, code = s.piston(t, "", "shells", "looked", "--recording", fmt.Sprint(first.ID))
	require.Zero(t, code, out)
	assert.Contains(t, out, `"version":2`)
	assert.Contains(t, out, "west, .")
	assert.NotContains(t, out, "the-upload-key-itself")
	out, _ = s.piston(t, "", "audit", "looked", "--limit", "50")
	assert.Contains(t, out, "shell.open")

	work := s.workFolder(t, "work")
	before, err := os.ReadDir(work)
	require.NoError(t, err)
	require.NotEmpty(t, before)
	out, code = s.piston(t, "", "stay", "looked", "1", "--let-go")
	require.Zero(t, code, out)
	require.Eventually(t, func() bool {
		left, err := os.ReadDir(work)
		return err == nil && len(left) < len(before)
	}, 30*time.Second, 50*time.Millisecond, "its files are removed")
	out, code = s.piston(t, "", "shell", "looked")
	assert.Equal(t, 3, code, out)
}

func TestSecretsComeToAShellThatWasGrantedThem(t *testing.T) {
	s := theServer(t)
	s.stands(t, "granted")
	out, code := s.piston(t, "", "shell", "granted", "-c", "echo ${#UPLOAD_KEY} $UPLOAD_KEY", "--secret", "UPLOAD_KEY")
	require.Zero(t, code, out)
	assert.Contains(t, out, "21 ‹hidden›", "the keeper has it, and no log does")
	out, code = s.piston(t, "", "shell", "granted", "-c", "echo ${#UPLOAD_KEY}")
	require.Zero(t, code, out)
	assert.Equal(t, "0\n", out, "the next one does not")
	out, code = s.piston(t, "quite-another-value-since", "secret", "set", "granted", "UPLOAD_KEY", "--any")
	require.Zero(t, code, out)
	out, code = s.piston(t, "", "shell", "granted", "-c", "echo ${#UPLOAD_KEY} $UPLOAD_KEY; echo the-upload-key-itself",
		"--secret", "UPLOAD_KEY")
	require.Zero(t, code, out)
	assert.Equal(t, "25 ‹hidden›\n‹hidden›\n", strings.TrimPrefix(out, "waiting for the machine …\r\n"),
		"what it is now is hidden, as what it was")
}

// typing is somebody at a terminal.
type typing struct {
	*os.File
	mu   sync.Mutex
	text bytes.Buffer
	cmd  *exec.Cmd
}

// types begins a command at a terminal of its own.
func (s *server) types(t *testing.T, args ...string) *typing {
	t.Helper()
	y := &typing{cmd: exec.Command(binary(), args...)}
	y.cmd.Env = append(os.Environ(), "PISTON_CONFIG="+s.config)
	var err error
	y.File, err = pty.StartWithSize(y.cmd, &pty.Winsize{Rows: 31, Cols: 97})
	require.NoError(t, err)
	t.Cleanup(func() {
		_ = y.cmd.Process.Kill()
		_ = y.Close()
	})
	go func() {
		piece := make([]byte, 4096)
		for {
			n, err := y.Read(piece)
			y.mu.Lock()
			y.text.Write(piece[:n])
			y.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return y
}

// sees waits until a text is on the terminal, behind what was seen before.
func (y *typing) sees(t *testing.T, wanted string) {
	t.Helper()
	require.Eventually(t, func() bool {
		y.mu.Lock()
		defer y.mu.Unlock()
		at := bytes.Index(y.text.Bytes(), []byte(wanted))
		if at >= 0 {
			y.text.Next(at + len(wanted))
		}
		return at >= 0
	}, 20*time.Second, 10*time.Millisecond, "%q in %q", wanted, y.text.String())
}

func (y *typing) types(t *testing.T, text string) {
	t.Helper()
	_, err := y.WriteString(text)
	require.NoError(t, err)
}

func TestAShellIsATerminal(t *testing.T) {
	s := theServer(t)
	s.stands(t, "typed")
	y := s.types(t, "shell", "typed")
	y.sees(t, "/build/src/out $ ")
	y.types(t, "stty size\r")
	y.sees(t, "31 97")
	y.types(t, "sleep 1000\r")
	time.Sleep(200 * time.Millisecond) // until the shell waits for it
	y.types(t, "\x03")
	y.sees(t, "/build/src/out $ ")
	require.NoError(t, pty.Setsize(y.File, &pty.Winsize{Rows: 20, Cols: 80}))
	y.types(t, "sleep 0.5; stty size\r")
	y.sees(t, "20 80")
	y.types(t, "yes | head -c 3000000 | tail -c 3; echo done | tr d D\r")
	y.sees(t, "Done")
	y.types(t, "cat leaks.txt\r")
	y.sees(t, "‹hidden›")
	y.types(t, "exit\r")
	require.NoError(t, y.cmd.Wait())
}

// Whoever floods is held back where it is made, whoever leaves takes their processes along, and what outlives the
// service's end ends with it.
func TestShellsThatFloodThatAreLeftAndThatLoseTheService(t *testing.T) {
	s := serve(t)
	s.stands(t, "flooded")
	flood := s.types(t, "shell", "flooded", "-c", "yes 0123456789")
	flood.sees(t, "0123456789")
	out, code := s.piston(t, "", "shell", "flooded", "-c", "echo beside it")
	assert.Zero(t, code)
	assert.Contains(t, out, "beside it")
	require.NoError(t, flood.cmd.Process.Kill())
	left := s.types(t, "shell", "flooded", "-c", "echo be''gins; sleep 4321")
	left.sees(t, "begins")
	pids := func() string {
		out, _ := exec.Command("pgrep", "-f", "^sleep 4321|^yes 0123456789").Output()
		return strings.TrimSpace(string(out))
	}
	require.NotEmpty(t, pids())
	require.NoError(t, left.cmd.Process.Kill())
	require.Eventually(t, func() bool { return pids() == "" }, 30*time.Second, 100*time.Millisecond, "nothing of them is left")

	y := s.types(t, "shell", "flooded")
	y.sees(t, "$ ")
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGKILL))
	_ = s.cmd.Wait()
	err := y.cmd.Wait()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 3, exit.ExitCode())
	s.start(t)
	require.Eventually(t, func() bool {
		out, code := s.piston(t, "", "shell", "flooded", "-c", "cat a.txt")
		one := s.stay(t, "flooded")
		return code == 0 && strings.Contains(out, "made") || one.State == api.StayOver && strings.Contains(one.Why, "runner")
	}, 100*time.Second, 500*time.Millisecond, "it stays, or it is said that its runner went, too")
}

// A shell ends with the role of whoever is in it, and a page of another address opens none.
func TestWhoMayNoLongerIsOut(t *testing.T) {
	s := theServer(t)
	s.stands(t, "nolonger")
	wren := s.as(t, "wren")
	out, code := s.piston(t, "", "role", "give", "builder", "wren", "--project", "nolonger")
	require.Zero(t, code, out)
	y := wren.types(t, "shell", "nolonger")
	y.sees(t, "$ ")
	out, code = s.piston(t, "", "role", "take", "wren", "--project", "nolonger")
	require.Zero(t, code, out)
	var exit *exec.ExitError
	require.ErrorAs(t, y.cmd.Wait(), &exit)
	out, code = wren.piston(t, "", "shell", "nolonger", "1", "--job", "main")
	assert.Equal(t, 3, code, out)

	ask, err := http.NewRequestWithContext(t.Context(), http.MethodGet,
		"http://"+s.listen+"/api/v1/projects/nolonger/runs/1/jobs/main/shell?kind=shell", nil)
	require.NoError(t, err)
	token, err := s.cl.Bearer()
	require.NoError(t, err)
	for k, v := range map[string]string{"Authorization": "Bearer " + token, "Connection": "Upgrade", "Upgrade": "websocket",
		"Sec-WebSocket-Version": "13", "Sec-WebSocket-Key": "AAAAAAAAAAAAAAAAAAAAAA==", "Origin": "https://other.example"} {
		ask.Header.Set(k, v)
	}
	answer, err := http.DefaultClient.Do(ask)
	require.NoError(t, err)
	defer answer.Body.Close()
	assert.Equal(t, http.StatusForbidden, answer.StatusCode)
	assert.Zero(t, s.stay(t, "nolonger").Shells, "nobody came")
}

func TestAKilledRunnersShellsEndAtOnce(t *testing.T) {
	s := serve(t)
	s.stands(t, "killed")
	y := s.types(t, "shell", "killed")
	y.sees(t, "$ ")
	began := time.Now()
	require.NoError(t, syscall.Kill(s.runnerPid(t), syscall.SIGKILL))
	var exit *exec.ExitError
	require.ErrorAs(t, y.cmd.Wait(), &exit)
	assert.Less(t, time.Since(began), 20*time.Second)
	assert.Equal(t, 3, exit.ExitCode())
}

func TestTheRunnersEndEndsAStay(t *testing.T) {
	s := serve(t)
	s.stands(t, "ended")
	y := s.types(t, "shell", "ended")
	y.sees(t, "$ ")
	require.NoError(t, syscall.Kill(s.runnerPid(t), syscall.SIGTERM))
	var exit *exec.ExitError
	require.ErrorAs(t, y.cmd.Wait(), &exit)
	require.Eventually(t, func() bool {
		one := s.stay(t, "ended")
		return one.State == api.StayOver && strings.Contains(one.Why, "is ending")
	}, 30*time.Second, 50*time.Millisecond)
}
