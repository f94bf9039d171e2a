package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
)

// inside runs a command in a repository's work tree.
func (r *repo) inside(env []string, args ...string) (string, int) {
	r.t.Helper()
	cmd := exec.Command(binary(), args...)
	cmd.Dir = r.dir
	cmd.Env = append(append(os.Environ(), "PISTON_CONFIG="+r.s.config, "NO_COLOR=1", "XDG_CACHE_HOME="+filepath.Join(r.s.home, "cache")), env...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	if _, exit := err.(*exec.ExitError); err != nil && !exit {
		require.NoError(r.t, err)
	}
	return out.String(), cmd.ProcessState.ExitCode()
}

// What check and try find before the push is not found after it.
func TestGreenAtTheFirstPush(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "first", map[string]string{"piston/trunk.toml": `
[trigger.push]
branches = ["main"]
[job.app]
tools = { git = ">=2" }
[[job.app.step]]
name = "build"
script = "tools/build"
secrets = ["FIRST_KEY"]
[job.app.keep.out]
files = ["out/*.txt"]
`, "tools/build": "#!/bin/sh\ntest -n \"$FIRST_KEY\"\nmkdir -p out\ncat input.txt > out/done.txt\n", "input.txt": "in\n"})
	out, code := r.inside(nil, "check")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "piston/trunk.toml:9:12: error: step \"build\" of job \"app\" asks for the secret FIRST_KEY, which nobody has set [secret-not-set]")
	assert.Contains(t, out, "piston secret set first FIRST_KEY")
	out, code = s.piston(t, "a key of some length\n", "secret", "set", "first", "FIRST_KEY")
	require.Zero(t, code, out)
	require.Eventually(t, func() bool { list, err := s.cl.Runners(t.Context(), api.Page{}); return err == nil && len(list) > 0 }, 20*time.Second, 50*time.Millisecond)
	out, code = r.inside(nil, "check")
	assert.Zero(t, code, out)

	out, code = r.inside(nil, "try")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "the secret FIRST_KEY is not on this machine")
	require.NoError(t, os.Remove(filepath.Join(r.dir, "input.txt")))
	out, code = r.inside([]string{"FIRST_KEY=a key of some length"}, "try")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "Look around:   piston try trunk --job app --shell")
	r.write(map[string]string{"input.txt": "changed, not committed\n"})
	out, code = r.inside([]string{"FIRST_KEY=a key of some length"}, "try", "--json")
	assert.Zero(t, code, out)
	var d api.RunDetail
	for dec := json.NewDecoder(strings.NewReader(out)); dec.More(); {
		d = api.RunDetail{}
		require.NoError(t, dec.Decode(&d))
	}
	assert.Equal(t, state.Passed, d.State)
	require.Len(t, d.Artifacts, 1)
	assert.NotContains(t, out, "a key of some length")

	r.commit("Build", nil)
	r.push()
	assert.Equal(t, state.Passed, r.run(1, true).State, "the first push is green")
}

func TestInputsAgainAndSinceByTheCommandLine(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "hand", map[string]string{"piston/hand.toml": "[input.mood]\nkind = \"choice\"\nchoices = [\"good\", \"bad\"]\n[job.a]\n[[job.a.step]]\nname = \"ask\"\nscript = 'echo it is $PISTON_INPUT_MOOD; test \"$PISTON_INPUT_MOOD\" = good || test -e /tmp/never'\n[job.b]\n[[job.b.step]]\nscript = \"true\"\n"})
	r.push()
	out, code := s.piston(t, "", "start", "hand", "hand", "--input", "mood=awful")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "is not one of good, bad")
	out, code = s.piston(t, "", "start", "hand", "hand")
	require.Zero(t, code, out)
	r.passes(1)
	out, code = s.piston(t, "", "start", "hand", "hand", "--input", "mood=bad")
	require.Zero(t, code, out)
	require.Equal(t, state.Failed, r.run(2, true).State)
	assert.Contains(t, r.logText(2, "a"), "it is bad")
	out, code = s.piston(t, "", "again", "hand", "2", "--failed")
	require.Zero(t, code, out)
	d := r.await(2, 60e9, func(d api.RunDetail) bool {
		return d.State.Over() && len(d.Jobs[0].Attempts) == 2
	})
	assert.Len(t, d.Jobs[1].Attempts, 1, "what passed is left alone")
	out, code = s.piston(t, "", "again", "hand", "1")
	require.Zero(t, code, out)
	assert.EqualValues(t, 1, r.passes(3).CausedBy)
	out, code = s.piston(t, "", "since", "hand", "2")
	require.Zero(t, code, out)
	assert.Contains(t, out, "Run 2 beside run 1, which passed:\n  nothing")
}

func TestConditionsVariantsAndHandsThroughTheDoors(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "lang", map[string]string{"piston/trunk.toml": `
[trigger.push]
[job.lib]
variants.over = { ABI = ["arm", "x86"] }
[[job.lib.step]]
shell = "bash"
script = 'mkdir -p "out/$ABI"; echo "lib for $ABI" > "out/$ABI/lib.txt"'
[job.lib.hand.lib]
files = ["out/${ABI}/*.txt"]
[job.app]
after = ["lib"]
take = ["lib/lib"]
[[job.app.step]]
name = "join"
script = "cat out/*/lib.txt"
[[job.app.step]]
name = "lint"
advisory = true
script = "exit 3"
[[job.app.step]]
name = "publish"
when = 'tag != ""'
script = "exit 9"
[job.tidy]
after = ["app"]
always = true
when = 'job.app == "failed"'
[[job.tidy.step]]
script = "true"
`})
	r.push()
	d := r.run(1, true)
	assert.Equal(t, state.Passed, d.State, asJSON(d))
	assert.Contains(t, r.logText(1, "app"), "lib for arm\nlib for x86\n")
	states := map[string]state.State{}
	for _, j := range d.Jobs {
		states[j.Name] = j.State
		for _, st := range j.Steps {
			states[j.Name+" "+st.Name] = st.State
		}
	}
	assert.Equal(t, state.Passed, states["lib+arm"])
	assert.Equal(t, state.Failed, states["app lint"], "reported, and nothing more")
	assert.Equal(t, []api.Reported{{Job: "app", Step: "lint", Reason: "exit code 3"}}, d.Reported)
	assert.Equal(t, state.Skipped, states["app publish"])
	assert.Equal(t, state.Skipped, states["tidy"])
}
