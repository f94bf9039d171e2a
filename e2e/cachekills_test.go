package e2e

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strconv"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/local/testdb"
)

// cached is a pipeline whose caches and outputs say themselves whether they are right: a run that is given anything but
// what was saved fails.
const cached = `
supersede = "none"
[trigger.push]
[job.make]
[job.make.cache.depot]
paths = ["depot", "lone"]
follows = ["lock"]
[[job.make.step]]
name = "depot"
script = '''
if test -e lone; then sha256sum --quiet --check lone; fi
mkdir -p depot/deep; rm -f depot/gone.*
for n in 1 2 3 4 5 6 7 8; do head -c 300000 /dev/urandom > depot/deep/$((PISTON_RUN % 5)).$n; done
for n in $(seq 300); do echo "$PISTON_RUN $n" > depot/small.$n; done
rm -rf depot/folder; mkdir depot/folder; echo $PISTON_RUN > depot/folder/of; touch depot/gone.$PISTON_RUN
find depot -type f | sort | xargs sha256sum > lone
'''
[[job.make.step]]
name = "sum"
script = "mkdir out; sha256sum lock > out/sum; head -c 400000 /dev/urandom > out/big; sha256sum out/big > out/check"
inputs = ["lock"]
outputs = ["out/*"]
[[job.make.step]]
name = "look"
script = "sha256sum --quiet --check out/sum out/check"
`

func TestKillsInSavingRestoringAndCollecting(t *testing.T) {
	t.Parallel()
	dsn := testdb.New(t)
	s := serve(t, "--slots", "2", "--database", dsn)
	s.cl.Patience = 2 * time.Minute
	r := s.project(t, "caches", map[string]string{"piston/trunk.toml": cached, "lock": "0"})
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	seed := uint64(time.Now().UnixNano())
	random := rand.New(rand.NewPCG(seed, 0))
	t.Logf("seed %d", seed)
	pushed, killed := record.RunNumber(0), map[string]int{}
	push := func() {
		pushed++
		r.commit(fmt.Sprintf("Change %d", pushed), map[string]string{"lock": strconv.Itoa(random.IntN(int(pushed)/2 + 1))})
		r.push()
	}
	for range max(4, kills(t)/2) {
		push()
		push()
		time.Sleep(time.Duration(random.IntN(900)) * time.Millisecond)
		if random.IntN(3) == 0 { // what no copy needs is given up when the server comes back, beside jobs that save
			page, err := s.cl.Caches(t.Context(), "caches", client.CacheFilter{Limit: 1})
			require.NoError(t, err)
			for _, c := range page.Items {
				require.NoError(t, s.cl.DropCache(t.Context(), "caches", c.ID))
			}
			_, err = db.ExecContext(t.Context(), `UPDATE cache_packs SET used_at = now() - interval '2 days'`)
			require.NoError(t, err)
		}
		what := []string{"server", "runner"}[random.IntN(2)]
		killed[what]++
		if what == "server" {
			_ = s.cmd.Process.Kill()
			_ = s.cmd.Wait()
			s.start(t)
		} else {
			_ = syscall.Kill(s.runnerPid(t), syscall.SIGKILL)
		}
		for n := pushed - 1; n <= pushed; n++ {
			d := r.run(n, true)
			if !assert.Equal(t, state.Passed, d.State, "run %d: %s\n%s", n, d.Reason, r.logText(n, "make")) {
				return
			}
		}
	}
	push()
	d := r.passes(pushed)
	require.Len(t, d.Jobs[0].Caches, 1)
	t.Logf("%d kills %v, %d runs", max(4, kills(t)/2), killed, pushed)
}
