package service

import (
	"bufio"
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
)

// raiserDSN tells this program to be a server that hands versions out, and on which database.
const raiserDSN = "PISTON_TEST_RAISER"

// beRaiser opens a service, and raises for the attempts that come on standard input. It tells what each was given.
func beRaiser(dsn string) error {
	ctx := ground.AsItself(context.Background())
	home := os.Getenv("PISTON_TEST_HOME")
	st, err := store.Open(ctx, dsn)
	if err != nil {
		return err
	}
	own, err := os.MkdirTemp("", "raiser-")
	if err != nil {
		return err
	}
	sm, err := stream.Open(ctx, own)
	if err != nil {
		return err
	}
	blobs, err := blob.OpenFolder(own)
	if err != nil {
		return err
	}
	s, err := Open(ctx, st, sm, blobs, Options{Home: home, Log: slog.New(slog.DiscardHandler),
		Master: vault.FindMaster(func(string) string { return "" }, MasterFile(home))})
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	lines := make(chan string)
	for range 4 {
		all.Go(func() {
			for line := range lines {
				n, _ := strconv.ParseInt(line, 10, 64)
				if out, err := s.Versions.Raise(ctx, record.AttemptID(n), wish("patch")); err == nil {
					fmt.Println(n, out.Name, out.Builds["android"], out.Builds["ios"])
				}
			}
		})
	}
	for in := bufio.NewScanner(os.Stdin); in.Scan(); {
		lines <- in.Text()
	}
	close(lines)
	all.Wait()
	return nil
}

// raised is what servers told of the attempts.
type raised struct {
	sync.Mutex
	given map[string]string // by the attempt
	wrong []string
}

func (r *raised) note(line string) {
	r.Lock()
	defer r.Unlock()
	attempt, what, whole := strings.Cut(line, " ")
	if len(strings.Fields(what)) != 3 || !whole {
		return // cut off
	}
	if was := r.given[attempt]; was != "" && was != what {
		r.wrong = append(r.wrong, fmt.Sprintf("attempt %s: %s, then %s", attempt, was, what))
	}
	r.given[attempt] = what
}

// TestServersThatAreKilledWhileRunsRaise has two servers on one database hand versions out, each killed (SIGKILL) at
// random, again and again.
func TestServersThatAreKilledWhileRunsRaise(t *testing.T) {
	first, r, dsn := openWithRepositoryOn(t)
	runs := 200
	if text := os.Getenv("PISTON_RAISES"); text != "" {
		var err error
		runs, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	attempts := raising(t, first, r, runs)
	beating(t, first)
	got := &raised{given: map[string]string{}}
	kills := 0
	serveUntilKilled := func() {
		got.Lock()
		var left []string
		for _, a := range attempts {
			if id := fmt.Sprint(a); got.given[id] == "" {
				left = append(left, id)
			}
		}
		got.Unlock()
		rand.Shuffle(len(left), func(i, j int) { left[i], left[j] = left[j], left[i] })
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), raiserDSN+"="+dsn, "PISTON_TEST_HOME="+first.Home(), "TMPDIR="+t.TempDir())
		cmd.Stdin = strings.NewReader(strings.Join(left, "\n") + "\n")
		out, err := cmd.StdoutPipe()
		if !assert.NoError(t, err) || !assert.NoError(t, cmd.Start()) {
			return
		}
		// It has a moment of work from its first answer on, or ends before.
		working := sync.OnceFunc(func() {
			time.AfterFunc(time.Duration(rand.IntN(250))*time.Millisecond, func() { _ = cmd.Process.Kill() })
		})
		for in := bufio.NewScanner(out); in.Scan(); {
			got.note(in.Text())
			working()
		}
		if cmd.Wait() != nil {
			got.Lock()
			kills++
			got.Unlock()
		}
	}
	deadline := time.Now().Add(time.Duration(runs) * time.Second)
	for done := 0; done < runs && time.Now().Before(deadline); {
		var both sync.WaitGroup
		both.Go(serveUntilKilled)
		both.Go(serveUntilKilled)
		both.Wait()
		got.Lock()
		done = len(got.given)
		got.Unlock()
	}
	require.Len(t, got.given, runs, "every run was given a version in the end")
	assert.Empty(t, got.wrong, "a run that asks again is given the same")
	names, builds := map[string]bool{}, map[string]bool{}
	for _, what := range got.given {
		f := strings.Fields(what)
		assert.Equal(t, f[1], f[2], "one number for both")
		names[f[0]], builds[f[1]] = true, true
	}
	assert.Len(t, names, runs, "no name twice")
	assert.Len(t, builds, runs, "no number twice")
	entries := ledgerOf(t, first).Entries
	if runs <= 500 {
		require.Len(t, entries, 2*runs)
	}
	for i := 2; i < len(entries); i++ {
		x, err := version.Parse(entries[i-2].Name)
		require.NoError(t, err)
		y, err := version.Parse(entries[i].Name)
		require.NoError(t, err)
		assert.True(t, x.Compare(y) > 0 && entries[i-2].Build > entries[i].Build, "they rise")
	}
	assert.Greater(t, kills, runs/50, "they were killed at it")
	t.Logf("%d runs raised, %d numbers, servers killed %d times", runs, len(builds), kills)
}
