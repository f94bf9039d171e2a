package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/bisect"
	"gentlepiston.example/piston/core/state"
)

// Twelve commits are pushed at once and the run fails: one command names the one to blame, whatever lies between.
func TestTheFirstBadChangeIsNamed(t *testing.T) {
	s := theServer(t)
	check := "[trigger.push]\n[job.first]\n[[job.first.step]]\nscript = \"mkdir -p out; cp level out/\"\n[job.first.hand.level]\n" +
		"files = [\"out/*\"]\n[job.check]\nafter = [\"first\"]\ntake = [\"first/level\"]\n[[job.check.step]]\n" +
		"name = \"measure\"\nscript = 'test -n \"$PISTON_BUILD_NUMBER\"; l=$(cat out/level); test $l -lt 70 || { echo \"error: level $l " +
		"is too high\"; exit 1; }'\n[job.check.keep.level]\nfiles = [\"out/*\"]\n"
	r := s.project(t, "levels", map[string]string{"piston/trunk.toml": check, "level": "1"})
	r.push()
	r.passes(1)
	var blame string
	for n := 1; n <= 12; n++ {
		files := map[string]string{"level": fmt.Sprint(n * 10)}
		switch n {
		case 3: // a file nobody could run
			files["piston/trunk.toml"] = "junk ["
		case 4:
			files["piston/trunk.toml"] = check
		}
		r.commit(fmt.Sprintf("Raise the level to %d", n*10), files)
		if n == 7 {
			blame = r.git("rev-parse", "HEAD")
		}
	}
	r.push()
	bad := r.run(2, true)
	require.Equal(t, "failed", string(bad.State))
	before, code := s.piston(t, "", "failures", "levels", "--json")
	require.Zero(t, code)
	out, code := s.piston(t, "", "bisect", "levels", "2", "--follow")
	require.Zero(t, code, out)
	assert.Contains(t, out, "Job check passed in run 1 and fails in run 2: one of 12 changes between.")
	_, found, _ := strings.Cut(out, "The first bad change:")
	assert.Contains(t, found, blame[:12]+"  Raise the level to 70")
	out, code = s.piston(t, "", "bisect", "levels", "2", "--json")
	require.Zero(t, code, out)
	var b api.Bisection
	require.NoError(t, json.Unmarshal([]byte(out), &b))
	require.Equal(t, api.BisectionFound, b.State)
	assert.LessOrEqual(t, len(b.Tries), 6)
	for _, try := range b.Tries {
		if try.Run == 0 {
			assert.Equal(t, bisect.Unclear, try.Verdict)
			continue
		}
		d := r.run(try.Run, true)
		assert.Len(t, d.Jobs, 2)
		assert.Empty(t, d.Artifacts, "a try keeps nothing")
		assert.Equal(t, bad.BuildNumber, d.BuildNumber)
	}
	after, _ := s.piston(t, "", "failures", "levels", "--json")
	assert.JSONEq(t, before, after)
	r.commit("Lower it", map[string]string{"level": "5"})
	r.push()
	last := r.run(b.Tries[len(b.Tries)-1].Run+1, true)
	assert.Equal(t, "passed", string(last.State))
	assert.Equal(t, bad.BuildNumber+1, last.BuildNumber, "no number was used up between")
	out, code = s.piston(t, "", "bisect", "levels", fmt.Sprint(last.Number))
	assert.NotZero(t, code)
	assert.Contains(t, out, "has failed")
}

// Server, runner and database are killed while a change is searched: it goes on from what is in the records, and names
// the one to blame.
func TestASearchOutlivesKills(t *testing.T) {
	t.Parallel()
	s := serve(t, "--slots", "1")
	s.cl.Patience = 2 * time.Minute
	r := s.project(t, "kept", map[string]string{"piston/trunk.toml": onPush("sleep 1; test $(cat level) -lt 5 || { echo error: level; exit 1; }"),
		"level": "0"})
	r.push()
	r.passes(1)
	for n := 1; n <= 9; n++ {
		r.commit(fmt.Sprintf("Level %d", n), map[string]string{"level": fmt.Sprint(n)})
	}
	r.push()
	require.Equal(t, state.Failed, r.run(2, true).State)
	b, err := s.cl.BeginBisection(t.Context(), "kept", 2, api.NewBisection{})
	require.NoError(t, err)
	for _, what := range []string{"server", "runner", "database"} {
		was := len(b.Tries)
		require.Eventually(t, func() bool { // a try is at work
			b = search(t, s)
			return b.Ended != nil || len(b.Tries) > was && b.Tries[len(b.Tries)-1].Verdict == ""
		}, time.Minute, 50*time.Millisecond)
		require.Nil(t, b.Ended, "it ended before the %s was killed: %s", what, asJSON(b))
		switch what {
		case "server":
			_ = s.cmd.Process.Kill()
			_ = s.cmd.Wait()
			s.start(t)
		case "runner":
			require.NoError(t, syscall.Kill(s.runnerPid(t), syscall.SIGKILL))
		case "database":
			require.NoError(t, syscall.Kill(s.postgresPid(t), syscall.SIGKILL))
		}
	}
	require.Eventually(t, func() bool { b = search(t, s); return b.Ended != nil }, 3*time.Minute, 200*time.Millisecond, "%s",
		s.log)
	require.Equal(t, api.BisectionFound, b.State, asJSON(b))
	assert.Equal(t, "Level 5", b.Suspects[0].Subject)
	seen := map[string]bool{}
	for _, try := range b.Tries {
		assert.False(t, seen[try.ID], "no change is tried twice")
		seen[try.ID] = true
	}
}

func search(t *testing.T, s *server) api.Bisection {
	t.Helper()
	list, err := s.cl.Bisections(t.Context(), "kept", 2)
	require.NoError(t, err)
	require.Len(t, list, 1)
	return list[0]
}

// What a commit says of itself is text, wherever it is told.
func TestASearchTellsTextOnly(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "loud", map[string]string{"piston/trunk.toml": onPush("test ! -e broken || { echo error: it; exit 1; }")})
	r.push()
	r.passes(1)
	r.commit("\x1b[31mred\x07 \u202egnp.exe <b>x</b>\ttab\rover", map[string]string{"broken": ""})
	r.commit("Next", map[string]string{"b": "1"})
	r.push()
	require.Equal(t, state.Failed, r.run(2, true).State)
	out, code := s.piston(t, "", "bisect", "loud", "2", "--follow")
	require.Zero(t, code, out)
	_, found, _ := strings.Cut(out, "The first bad change:")
	assert.Contains(t, found, "gnp.exe <b>x</b>")
	for _, bad := range []string{"\x1b", "\x07", "\u202e", "\r"} {
		assert.NotContains(t, out, bad)
	}
}
