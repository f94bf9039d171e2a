package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
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

func TestSecretsReachOnlyTheStepsThatListThem(t *testing.T) {
	s := theServer(t)
	const value = "tide-and-time-4711"
	const file = "{\"sender\": \"first-line-of-it\",\n \"key\": \"second-line-of-it\"}\n"
	r := s.project(t, "secrets", map[string]string{"android/services.json": "placeholder\n", "piston/trunk.toml": `
[trigger.push]
[[job.main.step]]
name = "has them"
script = '''
echo "value $TOKEN"
printf %s "$TOKEN" | base64
cat "$BLOB"; stat -c %a "$BLOB"
cat android/services.json; stat -c %a android/services.json
printf %s "$TOKEN" > copy; printf %s "$TOKEN" | wc -c
'''
secrets = ["TOKEN", "BLOB"]
secret_files = { BLOB = "android/services.json" }
[[job.main.step]]
name = "has none"
script = '''
test -z "${TOKEN:-}" && test ! -e /run/piston/secrets && cat android/services.json
env | sort
'''
`})
	out, code := s.piston(t, value+"\n", "secret", "set", "secrets", "TOKEN")
	require.Zero(t, code, out)
	path := filepath.Join(t.TempDir(), "services.json")
	require.NoError(t, os.WriteFile(path, []byte(file), 0o600))
	out, code = s.piston(t, "", "secret", "set", "secrets", "BLOB", "--file", path)
	require.Zero(t, code, out)
	out, code = s.piston(t, "", "secret", "set", "secrets", "TOKEN", "on-the-command-line")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "never as an argument")
	out, code = s.piston(t, strings.Repeat("x", 10_000_000), "secret", "set", "secrets", "LARGE")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "standard input is larger than a secret may be")
	out, code = s.piston(t, "abc\n", "secret", "set", "secrets", "SHORT")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "cannot be hidden")

	r.push()
	r.passes(1)
	log := r.logText(1, "main")
	assert.Contains(t, log, "value ‹hidden›")
	assert.Contains(t, log, "600")
	assert.Contains(t, log, "\n18\n", "the step had the true value")
	assert.Contains(t, log, "placeholder", "what stood in the way of a secret file is back after its step")
	for _, leak := range []string{value, "first-line-of-it", "second-line-of-it", "dGlkZS1hbmQtdGltZS00NzEx"} {
		assert.NotContains(t, log, leak)
		// Neither database, stream, blobs nor settings hold it.
		grep := exec.Command("grep", "-rlaF", "--exclude-dir=repos", "-e", leak, s.home)
		found, _ := grep.Output()
		assert.Empty(t, string(found))
	}
	info, err := os.Stat(filepath.Join(s.home, "secrets.key"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	list, _ := s.piston(t, "", "secret", "list", "secrets", "--json")
	assert.NotContains(t, list, value)
}

func TestTheSandboxShowsNothingOfTheMachine(t *testing.T) {
	s := theServer(t)
	t.Setenv("OUTSIDE", "yes")
	r := s.project(t, "walls", map[string]string{"piston/trunk.toml": `
[trigger.push]
[[job.main.step]]
name = "look around"
script = '''
test ! -e "` + s.home + `"
test ! -e /root && test ! -e /home && test ! -e /var/lib
test -z "$(env | grep -i -e '^PISTON_TOKEN' -e OUTSIDE -e Authorization)"
test "$(ls /proc | grep -c '^[0-9]')" -lt 8
! touch /usr/hurt 2>/dev/null || exit 1
test -z "$(grep -ri 'bearer\|piston_' .git)"
touch "$HOME/ok" /tmp/ok
'''
[[job.main.step]]
name = "no network"
network = "none"
script = "! curl -s -m 2 http://` + s.listen + `/api/v1/health && test ! -e /sys/class/net/eth0"
[[job.main.step]]
name = "leave something running"
script = "(trap '' TERM HUP; sleep 4711) & echo left"
[[job.main.step]]
name = "it is gone"
script = "! pgrep -f 'sleep 4711'"
`})
	began := time.Now()
	r.push()
	r.passes(1)
	assert.Less(t, time.Since(began), 20*time.Second, "a step ends although what it left behind does not")
	out, _ := exec.Command("pgrep", "-f", "sleep 4711").Output()
	assert.Empty(t, string(out), "nothing of a step outlives it")
}

func TestOutputOfEveryKind(t *testing.T) {
	s := theServer(t)
	r := s.script(t, "noise", `
head -c 100000000 /dev/zero | tr '\0' x
echo
head -c 2000000 /dev/urandom
echo
printf 'half \303\n'
printf 'nul \000 end\n'
printf 'progress 1%%\rprogress 100%%\n'
echo the end`)
	r.push()
	r.passes(1)
	total := 0
	xs := 0
	for from := int64(1); ; {
		part, err := s.cl.Log(t.Context(), "noise", 1, "main", client.LogQuery{From: from, Limit: 500})
		require.NoError(t, err)
		if len(part.Lines) == 0 {
			require.EqualValues(t, part.Total, total)
			break
		}
		for _, l := range part.Lines {
			require.Equal(t, from, l.N)
			from++
			total++
			xs += strings.Count(l.Text, "xxxx")
		}
	}
	assert.GreaterOrEqual(t, xs*4, 100_000_000-4*4000, "nothing of a line of 100 MB is lost")
	tail, _ := s.piston(t, "", "log", "noise", "1", "--job", "main", "--tail", "4")
	assert.Equal(t, "half \uFFFD\nnul \u2400 end\nprogress 100%\nthe end\n", tail)
}

func TestArtifactsThatMustNotBeTaken(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "artifacts", map[string]string{"piston/trunk.toml": `
[trigger.push]
[job.linked]
[[job.linked.step]]
script = "mkdir out; ln -s /etc/passwd out/a.apk; ln -s ../../passwd out/b.apk"
[job.linked.keep.app]
files = ["out/*.apk"]
[job.nothing]
[[job.nothing.step]]
script = "true"
[job.nothing.keep.app]
files = ["out/*.apk"]
[job.optional]
[[job.optional.step]]
script = "true"
[job.optional.keep.app]
files = ["out/*.apk"]
optional = true
[job.broken]
[[job.broken.step]]
script = "mkdir out; echo half > out/report.txt; exit 9"
[job.broken.keep.report]
files = ["out/report.txt"]
`})
	r.push()
	d := r.run(1, true)
	assert.Equal(t, state.Failed, d.State)
	reasons := map[string]string{}
	for _, j := range d.Jobs {
		reasons[j.Name] = string(j.State) + ": " + j.Reason
	}
	assert.Contains(t, reasons["linked"], "leaves the workspace")
	assert.Contains(t, reasons["nothing"], "nothing matches out/*.apk")
	assert.Equal(t, "passed: ", reasons["optional"])
	require.Len(t, d.Artifacts, 1, "only the failed job's report: %v", d.Artifacts)
	assert.Equal(t, "out/report.txt", d.Artifacts[0].Path)
}

func TestLimitsAndStops(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "limits", map[string]string{"piston/trunk.toml": `
[trigger.push]
[job.slow]
[[job.slow.step]]
name = "too slow"
limit = "400ms"
script = "echo begun; sleep 60"
[job.deaf]
limit = "700ms"
[[job.deaf.step]]
script = "trap '' TERM INT HUP; echo deaf; while :; do sleep 1 || true; done"
`, "piston/endless.toml": "[[job.main.step]]\nscript = \"echo waiting; trap 'echo asked to end; exit 0' TERM; sleep 300 & wait\"\n[job.later]\nafter = [\"main\"]\n[[job.later.step]]\nscript = \"true\"\n"})
	r.push()
	began := time.Now()
	d := r.run(1, true)
	assert.Less(t, time.Since(began), 30*time.Second)
	assert.Equal(t, state.TimedOut, d.State)
	for _, j := range d.Jobs {
		assert.Equal(t, state.TimedOut, j.State, j.Name)
		assert.Contains(t, j.Reason, "limit of")
	}

	run, err := s.cl.StartRun(t.Context(), "limits", api.StartRun{Pipeline: "endless", Ref: "main"})
	require.NoError(t, err)
	r.await(run.Number, 20*time.Second, func(d api.RunDetail) bool { return len(d.Jobs) > 0 && d.Jobs[0].Steps[0].State == state.Running })
	require.Eventually(t, func() bool { return strings.Contains(r.logText(run.Number, "main"), "waiting") }, 10*time.Second, 50*time.Millisecond)
	began = time.Now()
	out, code := s.piston(t, "", "stop", "limits", fmt.Sprint(run.Number))
	require.Zero(t, code, out)
	d = r.run(run.Number, true)
	assert.Less(t, time.Since(began), 4*time.Second, "a stop does not wait for the next beat")
	assert.Equal(t, state.Cancelled, d.State)
	assert.Equal(t, "stopped by admin", d.Reason)
	for _, j := range d.Jobs {
		assert.Equal(t, state.Cancelled, j.State, j.Name)
	}
	assert.Contains(t, r.logText(run.Number, "main"), "asked to end", "a step may tidy up before it ends")
	out, code = s.piston(t, "", "stop", "limits", fmt.Sprint(run.Number))
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "over already")
}

func TestDiskLimit(t *testing.T) {
	s := serveWith(t, []string{"PISTON_RUNNER_DISK=50MB"}, "--slots", "1")
	r := s.project(t, "disk", map[string]string{"piston/trunk.toml": onPush("i=0; while :; do head -c 10000000 /dev/zero > f$i; i=$((i+1)); sleep 0.1; done"),
		"piston/fine.toml": onPush("echo fine")})
	r.push()
	require.Eventually(t, func() bool { return r.count() == 2 }, 20*time.Second, 50*time.Millisecond)
	for n := record.RunNumber(1); n <= 2; n++ {
		d := r.run(n, true)
		if d.Pipeline == "fine" {
			assert.Equal(t, state.Passed, d.State, "the runner lives on")
			continue
		}
		assert.Equal(t, state.Failed, d.State)
		assert.Contains(t, d.Reason, "50.0 MB are allowed")
	}
}

func TestCacheIsRestoredAndSaved(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "caches", map[string]string{"lock": "one", "piston/trunk.toml": `
[trigger.push]
[job.main.cache.depot]
paths = ["depot"]
follows = ["lock"]
[job.main.cache.astray]
paths = ["x"]
follows = ["gone.lock"]
[[job.main.step]]
script = '''
if test -e depot/deep/data; then cat depot/deep/data; readlink depot/link; test -x depot/tool; else
mkdir -p depot/deep; echo "made for run $PISTON_RUN" > depot/deep/data; ln -s deep/data depot/link; printf '#!/bin/sh\n' > depot/tool; chmod 755 depot/tool; chmod 500 depot/deep; fi
'''
`})
	r.push()
	d := r.passes(1)
	uses := map[string]api.CacheUse{}
	for _, c := range d.Jobs[0].Caches {
		uses[c.Name] = c
	}
	assert.False(t, uses["depot"].Hit)
	assert.True(t, uses["depot"].Saved)
	assert.Contains(t, uses["astray"].Note, "gone.lock")

	r.commit("Change something else", map[string]string{"other": "x"})
	r.push()
	d = r.passes(2)
	assert.True(t, d.Jobs[0].Caches[1].Hit, asJSON(d.Jobs[0].Caches))
	log := r.logText(2, "main")
	assert.Contains(t, log, "made for run 1")
	assert.Contains(t, log, "cache depot: hit")

	r.commit("Change the lock", map[string]string{"lock": "two"})
	r.push()
	assert.False(t, r.passes(3).Jobs[0].Caches[1].Hit)
}

// A reader that comes back where it was misses nothing and sees nothing twice, however often it is cut off.
func TestTheStreamResumes(t *testing.T) {
	s := theServer(t)
	r := s.script(t, "resume", "i=0; while [ $i -lt 400 ]; do echo line $i; i=$((i+1)); [ $((i % 20)) -ne 0 ] || sleep 0.05; done")
	r.push()
	r.run(1, false)
	var got []logline.Line
	last := ""
	cut := 0
	deadline := time.Now().Add(60 * time.Second)
	for (len(got) == 0 || got[len(got)-1].Text != "line 399") && time.Now().Before(deadline) {
		cut++
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		events := 0
		_ = s.cl.Stream(ctx, client.Topic{Project: "resume", Run: 1, Log: "*"}, last, func(e client.Event) error {
			events++
			last = e.ID
			if e.Log != nil {
				got = append(got, e.Log.Lines...)
			}
			if events > cut%4 || len(got) > 0 && got[len(got)-1].Text == "line 399" {
				return context.Canceled
			}
			return nil
		})
		cancel()
	}
	require.Greater(t, cut, 5, "the connection was cut often")
	for i, l := range got {
		require.EqualValues(t, i+1, l.N, "after %d cuts", cut)
	}
	r.passes(1)

	// Much later, when the log is packed away, the same position still leads on from there.
	require.Eventually(t, func() bool {
		files, _ := filepath.Glob(filepath.Join(s.home, "blobs", "logs", "*", "*"))
		return len(files) > 0
	}, 10*time.Second, 50*time.Millisecond)
	var rest []logline.Line
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	_ = s.cl.Stream(ctx, client.Topic{Project: "resume", Run: 1, Log: "*"}, "1;main.1:300", func(e client.Event) error {
		if e.Log != nil {
			rest = append(rest, e.Log.Lines...)
		}
		if len(rest) >= len(got)-300 {
			return context.Canceled
		}
		return nil
	})
	require.Len(t, rest, len(got)-300)
	assert.EqualValues(t, 301, rest[0].N)
}
