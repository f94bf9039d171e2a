package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

const reused = `
[trigger.push]
[[job.main.step]]
name = "library"
script = '''
echo "built with $MODE"
mkdir -p out; cat src/*.c > out/library; ln -s library out/link; date +at-%N > out/when
echo '<testsuite><testcase name="t" classname="c"/></testsuite>' > out/tests.xml
test ! -e README
'''
inputs = ["src/*.c"]
outputs = ["out/**"]
test_reports = ["out/*.xml"]
env = { MODE = "fast" }
[[job.main.step]]
name = "package"
script = "cat out/library out/when; readlink out/link; cat README"
`

// What runs have made is made again neither in a trial of somebody who may start them, nor is what others must not see.
func TestATrialHasWhatRunsHaveSaved(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "lent", map[string]string{"README": "first", "src/a.c": "tide", "lock": "1",
		"piston/trunk.toml": reused + `
[job.main.cache.depot]
paths = ["depot"]
follows = ["lock"]
[[job.main.step]]
name = "depot"
script = "mkdir -p depot; test -e depot/made || date +%N > depot/made; cat depot/made"
`})
	r.push()
	r.passes(1)
	made := when(r.logText(1, "main"))
	require.NotEmpty(t, made)
	r.write(map[string]string{"README": "tried"})
	out, code := r.inside(nil, "try")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "reused of run 1", "the step")
	assert.Equal(t, made, when(out))
	assert.Contains(t, out, "the copy of run 1 on main", "the cache")
	assert.Contains(t, out, "fetched in")

	out, code = r.inside(nil, "try")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "reused of run 1")
	assert.Equal(t, made, when(out), "what was fetched is here now")

	r.write(map[string]string{"src/a.c": "ebb"})
	out, code = r.inside(nil, "try")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "src/a.c differs since run 1")

	r.write(map[string]string{"src/a.c": "tide"})
	out, code = r.inside([]string{"XDG_CACHE_HOME=" + t.TempDir()}, "try", "--offline")
	assert.Zero(t, code, out)
	assert.NotContains(t, out, "run 1", "when it is to do without")
	away := t.TempDir() + "/client.json"
	require.NoError(t, os.WriteFile(away, []byte(`{"server":"http://127.0.0.1:9","token":"x"}`), 0o600))
	out, code = r.inside([]string{"XDG_CACHE_HOME=" + t.TempDir(), "PISTON_CONFIG=" + away}, "try")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "what runs have saved is not looked at")
}

func TestAStepIsReusedWhenNothingItReadsHasChanged(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "reuse", map[string]string{"README": "first", "src/a.c": "tide", "src/b.c": "ebb",
		"piston/trunk.toml": reused})
	r.push()
	d := r.passes(1)
	assert.Equal(t, state.Passed, d.Jobs[0].Steps[0].State)
	assert.Equal(t, 1, d.Jobs[0].Tests.Passed)
	first := r.logText(1, "main")

	r.commit("Change what it does not read", map[string]string{"README": "second"})
	r.push()
	d = r.passes(2)
	step := d.Jobs[0].Steps[0]
	assert.Equal(t, state.Reused, step.State, r.logText(2, "main"))
	require.NotNil(t, step.Reuse)
	assert.EqualValues(t, 1, step.Reuse.Run)
	assert.Positive(t, step.Reuse.TookMs)
	assert.Equal(t, 1, d.Jobs[0].Tests.Passed, "its test reports count")
	log := r.logText(2, "main")
	assert.Contains(t, log, "built with fast", "its log is put back")
	assert.Contains(t, log, "tideebb")
	assert.Contains(t, log, "second")
	require.NotEmpty(t, when(first))
	assert.Equal(t, when(first), when(log), "the outputs are those of then")

	r.commit("Change what it reads", map[string]string{"src/b.c": "flood"})
	r.push()
	d = r.passes(3)
	step = d.Jobs[0].Steps[0]
	assert.Equal(t, state.Passed, step.State)
	assert.Equal(t, []string{"src/b.c"}, step.Reuse.Differs)
	assert.Contains(t, r.logText(3, "main"), "tideflood")
	out, code := s.piston(t, "", "why", "reuse", "3", "main", "library")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "src/b.c")

	r.commit("Go back", map[string]string{"src/b.c": "ebb", "piston/other.toml": reused})
	r.push()
	require.Eventually(t, func() bool { return r.count() == 5 }, 20*time.Second, 50*time.Millisecond)
	for n := record.RunNumber(4); n <= 5; n++ {
		assert.Equal(t, state.Reused, r.passes(n).Jobs[0].Steps[0].State, "whatever the pipeline")
	}
	fresh, err := s.cl.StartRun(t.Context(), "reuse", api.StartRun{Pipeline: "trunk", Fresh: true})
	require.NoError(t, err)
	d = r.passes(fresh.Number)
	assert.Equal(t, state.Passed, d.Jobs[0].Steps[0].State, "fresh ignores all of it")
	audit, err := s.cl.StartRun(t.Context(), "reuse", api.StartRun{Pipeline: "trunk", Audit: true})
	require.NoError(t, err)
	d = r.passes(audit.Number)
	assert.Equal(t, state.Passed, d.Jobs[0].Steps[0].State)
	assert.Contains(t, d.Jobs[0].Steps[0].Reuse.Unlike, "out/when differs from its byte")
}

// stamp has a word of its own: some hashes have nine digits in a row, too.
var stamp = regexp.MustCompile(`at-\d{9}`)

// when finds the line of nanoseconds.
func when(log string) string { return stamp.FindString(log) }

func TestAStepSeesItsInputsAndNothingElse(t *testing.T) {
	s := theServer(t)
	for name, c := range map[string]struct{ script, says string }{
		"forgets": {"cat src/a.c core/x.h", "the step read core/x.h, which is not among its inputs"},
		"writes":  {"echo more >> src/a.c", "the step writes into src/a.c, which is among its inputs"},
		"removes": {"rm src/a.c", "the step removes src/a.c, which is among its inputs"},
		"network": {"test ! -e /sys/class/net/tap0; grep -c : /proc/net/dev | grep -qx 1; exit 7", "exit code 7"},
		"lent":    {"test -z \"$(ls -A ../lent)\" && exit 9", "exit code 9"},
		"home":    {"test -z \"$(ls -A $HOME)\" && test -z \"$PISTON_COMMIT$PISTON_RUN\" && exit 9", "exit code 9"},
	} {
		r := s.project(t, "sees-"+name, map[string]string{"src/a.c": "tide", "core/x.h": "x", "piston/trunk.toml": `
[trigger.push]
[[job.main.step]]
name = "before"
script = "echo x > $HOME/left"
[[job.main.step]]
name = "sealed"
script = '''` + c.script + `'''
inputs = ["src/*"]
outputs = ["out/*"]
`})
		r.push()
		d := r.run(1, true)
		assert.Equal(t, state.Failed, d.State, name)
		assert.Contains(t, d.Jobs[0].Steps[1].Reason, c.says, name)
	}
}

func TestAStepsOutputsStayOutOfTheRepositoryItself(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "hooks", map[string]string{"src/a.c": "tide", "piston/trunk.toml": `
[trigger.push]
[[job.main.step]]
name = "sealed"
script = "mkdir -p out .git/hooks; echo x > out/x; echo x > .git/hooks/evil"
inputs = ["src/*"]
outputs = ["**"]
[[job.main.step]]
name = "look"
script = "cat out/x; test ! -e .git/hooks/evil; git status --short"
`})
	r.push()
	r.passes(1)
	_, err := s.cl.StartRun(t.Context(), "hooks", api.StartRun{Pipeline: "trunk"})
	require.NoError(t, err)
	d := r.passes(2)
	assert.Equal(t, state.Reused, d.Jobs[0].Steps[0].State)
}

// What a cache has brought need not be read again to know what it is; what was done to it since is seen.
func TestAStepThatReadsWhatACacheHasBrought(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "brought", map[string]string{"lock": "1", "tamper": "", "piston/trunk.toml": `
[trigger.push]
[job.main.cache.depot]
paths = ["depot"]
follows = ["lock"]
[[job.main.step]]
name = "depot"
script = """
mkdir -p depot
test -e depot/small || { for n in $(seq 300); do echo "$n of some" > depot/$n; done; seq 100000 > depot/large; echo small > depot/small; }
sh tamper
"""
[[job.main.step]]
name = "sealed"
script = "mkdir -p out; sort -u depot/* > out/all; grep -c . out/all; cat depot/small"
inputs = ["depot/*"]
outputs = ["out/all"]
`})
	r.push()
	r.passes(1)
	pushed := record.RunNumber(1)
	for _, c := range []struct {
		tamper string
		want   state.State
	}{
		{"", state.Reused},
		{"cp depot/small /tmp/x; echo SMALL > depot/small; touch -r /tmp/x depot/small", state.Passed},
		{"touch -d @86400 depot/small", state.Reused},
		{"echo one more > depot/more", state.Passed},
		{"rm depot/7", state.Passed},
		{"chmod 755 depot/8", state.Passed},
		{"", state.Reused},
	} {
		pushed++
		r.commit("Do something to it", map[string]string{"tamper": c.tamper, "n": fmt.Sprint(pushed)})
		r.push()
		d := r.passes(pushed)
		assert.True(t, d.Jobs[0].Caches[0].Hit, c.tamper)
		assert.Equal(t, c.want, d.Jobs[0].Steps[1].State, "%q\n%s", c.tamper, r.logText(pushed, "main"))
	}
}

// Whoever asks for parts of packs says where they are; no lie is the service's fault, nor answered by anything.
func TestLiesAboutPartsOfPacks(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "parts", map[string]string{"src/a.c": "tide", "README": "x", "piston/trunk.toml": reused})
	r.push()
	r.passes(1)
	page, err := s.cl.Caches(t.Context(), "parts", client.CacheFilter{Limit: 1})
	require.NoError(t, err)
	id := fmt.Sprint(page.Items[0].ID)
	text, err := os.ReadFile(s.config)
	require.NoError(t, err)
	var signedIn struct{ Token string }
	require.NoError(t, json.Unmarshal(text, &signedIn))
	ask := func(path string) (status int, n int, err error) {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet,
			"http://"+s.listen+"/api/v1/projects/parts/caches/"+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+signedIn.Token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		return res.StatusCode, len(body), err
	}
	status, n, err := ask(id + "/tree")
	require.NoError(t, err)
	require.Equal(t, 200, status)
	require.Positive(t, n)
	pack := ""
	for k := 1; k < 200 && pack == ""; k++ {
		if status, _, _ := ask(fmt.Sprintf("%s/packs/%d?start=0&n=1", id, k)); status == 200 {
			pack = fmt.Sprint(k)
		}
	}
	require.NotEmpty(t, pack)
	for _, lie := range []string{"start=9223372036854775807&n=1", "start=9223372036854775807&n=9223372036854775807",
		"start=0&n=9223372036854775807", "start=-1&n=5", "start=5&n=0", "start=1e3&n=1", "start=50000000&n=1000",
		"start=0&n=60000000", "", "start=%00&n=1"} {
		status, _, err := ask(id + "/packs/" + pack + "?" + lie)
		require.NoError(t, err, lie)
		assert.GreaterOrEqual(t, status, 400, lie)
		assert.Less(t, status, 500, lie)
	}
	for _, path := range []string{"0/tree", "-1/tree", "99999999999999999999/tree", "x/tree", "%00/tree", "../1/tree",
		id + "/packs/0?start=0&n=1", id + "/packs/-7?start=0&n=1", id + "/packs/x?start=0&n=1",
		"99999/packs/" + pack + "?start=0&n=1"} {
		status, _, err := ask(path)
		require.NoError(t, err, path)
		assert.GreaterOrEqual(t, status, 400, path)
		assert.Less(t, status, 500, path)
	}
}
