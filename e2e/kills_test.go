package e2e

import (
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// loaded is a pipeline whose jobs take in and give out by every way there is.
const loaded = `
supersede = "none"
[trigger.push]
[job.make]
[job.make.cache.depot]
paths = ["depot"]
follows = ["lock"]
[[job.make.step]]
script = "mkdir -p depot out; test -e depot/big || head -c 3000000 /dev/urandom > depot/big; cp depot/big out/big; seq 200; sleep 0.3; echo $PISTON_BUILD_NUMBER > out/number"
[job.make.hand.out]
files = ["out/*"]
[job.use]
after = ["make"]
take = ["make/out"]
[[job.use.step]]
script = "cmp -n 1000 out/big out/big; seq 200; sleep 0.3; cp out/number kept"
[job.use.keep.kept]
files = ["kept"]
`

// kills is how many processes are killed: few with all tests, many in a soak.
func kills(t *testing.T) int {
	text := os.Getenv("PISTON_KILLS")
	if text == "" {
		return 10
	}
	n, err := strconv.Atoi(text)
	require.NoError(t, err)
	return n
}

// betweenRunners is the least time between two kills of the runner: one that is lost three times with the same job is
// taken for a fault of the job.
const betweenRunners = 25 * time.Second

func TestKillsUnderLoadLoseAndDoubleNothing(t *testing.T) {
	t.Parallel()
	s := serve(t, "--slots", "2")
	s.cl.Patience = 2 * time.Minute
	r := s.project(t, "load", map[string]string{"piston/trunk.toml": loaded, "lock": "1"})
	seed := uint64(time.Now().UnixNano())
	random := rand.New(rand.NewPCG(seed, 0))
	t.Logf("seed %d", seed)
	pushed, killed := 0, map[string]int{}
	push := func() {
		pushed++
		r.commit(fmt.Sprintf("Change %d", pushed), map[string]string{"lock": strconv.Itoa(pushed / 4)})
		r.push()
	}
	lastRunner := time.Time{}
	for n := range kills(t) {
		push()
		time.Sleep(time.Duration(200+random.IntN(1800)) * time.Millisecond)
		what := []string{"server", "runner", "database"}[(n+random.IntN(2))%3]
		if what == "runner" && time.Since(lastRunner) < betweenRunners {
			what = "database"
		}
		killed[what]++
		switch what {
		case "server":
			_ = s.cmd.Process.Kill()
			_ = s.cmd.Wait()
			push() // while nobody is there
			s.start(t)
		case "runner":
			lastRunner = time.Now()
			_ = syscall.Kill(s.runnerPid(t), syscall.SIGKILL)
		case "database":
			_ = syscall.Kill(s.postgresPid(t), syscall.SIGKILL)
		}
	}
	numbers := map[string]bool{}
	states := map[state.State]int{}
	for n := range pushed {
		d := r.run(record.RunNumber(n+1), true)
		states[d.State]++
		if !assert.Equal(t, state.Passed, d.State, "run %d: %s", n+1, asJSON(d)) {
			continue
		}
		number := fmt.Sprint(d.BuildNumber)
		assert.False(t, numbers[number], "build number %s was issued twice", number)
		numbers[number] = true
		require.Len(t, d.Artifacts, 1)
		content, err := s.cl.Artifact(t.Context(), "load", d.Number, d.Artifacts[0].ID)
		require.NoError(t, err)
		text, err := io.ReadAll(content)
		content.Close()
		require.NoError(t, err)
		assert.Equal(t, number, strings.TrimSpace(string(text)), "each run kept its own")
		for _, j := range d.Jobs {
			part, err := s.cl.Log(t.Context(), "load", d.Number, j.Name, client.LogQuery{Limit: 5000, From: 1})
			require.NoError(t, err)
			seen := 0
			for _, l := range part.Lines {
				if v, err := strconv.Atoi(l.Text); err == nil && v == seen+1 {
					seen++
				}
			}
			assert.Equal(t, 200, seen, "every line of run %d, job %s, once and in order", d.Number, j.Name)
		}
	}
	page, err := s.cl.Runs(t.Context(), "load", client.RunFilter{Limit: 200})
	require.NoError(t, err)
	assert.LessOrEqual(t, len(page.Runs), pushed, "none was doubled")
	t.Logf("%d kills %v, %d pushes, runs by state %v, %d build numbers", kills(t), killed, pushed, states, len(numbers))
}
