package e2e

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/client"
)

// residentMB is a process's memory (proc(5), status: VmRSS less what is shared with files, RssAnon) in MB.
func residentMB(t *testing.T, pid int) float64 {
	t.Helper()
	f, err := os.Open(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if rest, is := strings.CutPrefix(lines.Text(), "VmRSS:"); is {
			kb, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			require.NoError(t, err)
			return kb / 1000
		}
	}
	return 0
}

// A step that prints a gigabyte grows neither server nor runner, and a reader that takes nothing holds up nobody.
func TestAGigabyteOfLog(t *testing.T) {
	s := serveWith(t, []string{"PISTON_RUNNER_LOG_SIZE=2GB"}, "--slots", "1")
	warm := s.script(t, "warm", "head -c 30000000 /dev/zero | tr '\\0' x | fold -w 100")
	warm.push()
	warm.passes(1)
	time.Sleep(time.Second)
	runner := s.runnerPid(t)
	before := [2]float64{residentMB(t, s.cmd.Process.Pid), residentMB(t, runner)}
	t.Logf("idle: server %.0f MB, runner %.0f MB", before[0], before[1])
	assert.Less(t, before[0], 120.0, "the idle server")

	r := s.script(t, "gigabyte", "yes 'a line of the log, as long as lines of build logs are wont to be, more or less; this one has 124 bytes with its number and end' | head -c 1000000000")
	r.push()
	r.run(1, false)
	// A reader that asks for the log and then reads nothing.
	c, err := net.Dial("tcp", s.listen)
	require.NoError(t, err)
	defer c.Close()
	_, err = fmt.Fprintf(c, "GET /api/v1/stream?project=gigabyte&run=1&log=* HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n\r\n", s.cl.Token)
	require.NoError(t, err)

	var most [2]float64
	began := time.Now()
	for {
		for i, pid := range []int{s.cmd.Process.Pid, runner} {
			most[i] = max(most[i], residentMB(t, pid))
		}
		d, err := s.cl.Run(t.Context(), "gigabyte", 1)
		require.NoError(t, err)
		if d.State.Over() {
			assert.Equal(t, "passed", string(d.State), asJSON(d))
			break
		}
		require.Less(t, time.Since(began), 5*time.Minute)
		time.Sleep(100 * time.Millisecond)
	}
	t.Logf("a gigabyte in %.0f s; server grew by %.0f MB, runner by %.0f MB", time.Since(began).Seconds(), most[0]-before[0], most[1]-before[1])
	assert.Less(t, most[0]-before[0], 50.0, "the server")
	assert.Less(t, most[1]-before[1], 50.0, "the runner")
	part, err := s.cl.Log(t.Context(), "gigabyte", 1, "main", client.LogQuery{Tail: 3, Limit: 3})
	require.NoError(t, err)
	assert.Greater(t, part.Total, int64(7_500_000))
	assert.Len(t, part.Lines, 3, "the end of a log of millions of lines is there at once")
}
