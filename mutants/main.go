// Command mutants puts one small fault at a time into the code and tells which of them no test sees.
//
// A fault is drawn at random, by a seed, from all that the changes of change.go can make in a group of packages. It is
// laid over the sources (go test -overlay), so that the tree stays as it is, and only the tests that pass through its
// place are run. A fault that does not compile is drawn anew.
package main

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"gentlepiston.example/piston/local"
	"gentlepiston.example/piston/local/testdb"
)

// group is code and the tests that answer for it, as patterns of packages.
type group struct {
	name  string
	code  string
	tests []string
}

var groups = []group{
	{"core", "./core/...", []string{"./core/..."}},
	{"service", "./service/...", []string{"./service/...", "./httpapi"}},
	{"store", "./store", []string{"./store", "./service"}},
	{"httpapi", "./httpapi", []string{"./httpapi"}},
	{"hook", "./hook", []string{"./hook"}},
	{"runner", "./runner/...", []string{"./runner/..."}},
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintf(os.Stderr, "mutants: %v\n", err)
		os.Exit(1)
	}
}

func run() error {
	count := flag.Int("count", 40, "how many faults to put into each group")
	seed := flag.Uint64("seed", 1, "draws other faults")
	long := flag.Duration("long", 15*time.Second, "leave out tests that take longer than this by themselves")
	limit := flag.Duration("limit", time.Hour, "stop after this time")
	workers := flag.Int("workers", 2, "how many faults are tried at a time")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, *limit)
	defer cancel()
	end, err := database(ctx)
	if err != nil {
		return err
	}
	defer end()
	for _, g := range groups {
		if flag.NArg() > 0 && !slices.Contains(flag.Args(), g.name) {
			continue
		}
		if err := try(ctx, g, *count, *seed, *long, *workers); err != nil {
			return fmt.Errorf("%s: %w", g.name, err)
		}
	}
	return nil
}

// database starts one for all tests, so that not each run of one starts its own.
func database(ctx context.Context) (end func(), err error) {
	home, err := os.MkdirTemp("", "mutants-db-")
	if err != nil {
		return nil, err
	}
	server, err := local.StartPostgres(context.WithoutCancel(ctx), home, slog.New(slog.DiscardHandler))
	if err != nil {
		return nil, err
	}
	return func() {
		server.Stop()
		if err := local.RemoveFolder(home); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
	}, os.Setenv(testdb.Given, server.DSN())
}

// score counts the faults of one package.
type score struct{ killed, survived int }

// try puts faults into one group and prints what was seen of them.
func try(ctx context.Context, g group, count int, seed uint64, long time.Duration, workers int) error {
	scratch, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch)
	started := time.Now()
	tests, err := survey(ctx, g, scratch, long)
	if err != nil {
		return err
	}
	faults, err := faultsOf(ctx, g.code)
	if err != nil {
		return err
	}
	fmt.Printf("%s: %d tests pass through it, %d faults can be made; surveyed in %s\n",
		g.name, len(tests), len(faults), time.Since(started).Round(time.Second))
	rand.New(rand.NewPCG(seed, 0)).Shuffle(len(faults), func(i, j int) {
		faults[i], faults[j] = faults[j], faults[i]
	})
	draw := &draw{left: faults, wanted: count}
	scores := map[string]*score{}
	var mu sync.Mutex
	var awaited sync.WaitGroup
	for i := range workers {
		awaited.Go(func() {
			for f, ok := draw.next(); ok && ctx.Err() == nil; f, ok = draw.next() {
				seen := f.seen(ctx, tests, filepath.Join(scratch, fmt.Sprint(i)))
				if ctx.Err() != nil {
					return
				}
				if seen == "" {
					draw.again()
					continue
				}
				mu.Lock()
				tell(scores, f, seen)
				mu.Unlock()
			}
		})
	}
	awaited.Wait()
	table(scores)
	fmt.Printf("%s: %s\n\n", g.name, time.Since(started).Round(time.Second))
	return ctx.Err()
}

// draw hands out faults until as many as wanted were good ones.
type draw struct {
	mu     sync.Mutex
	left   []fault
	wanted int
}

func (d *draw) next() (fault, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.wanted == 0 || len(d.left) == 0 {
		return fault{}, false
	}
	f := d.left[0]
	d.left, d.wanted = d.left[1:], d.wanted-1
	return f, true
}

// again gives back the place of a fault that does not compile.
func (d *draw) again() {
	d.mu.Lock()
	d.wanted++
	d.mu.Unlock()
}

func tell(scores map[string]*score, f fault, seen string) {
	s := scores[f.pkg]
	if s == nil {
		s = &score{}
		scores[f.pkg] = s
	}
	if seen == killed {
		s.killed++
		return
	}
	s.survived++
	fmt.Printf("  %s  %s:%d:%d  %s\n", seen, f.file, f.line, f.column, f.what)
}

func table(scores map[string]*score) {
	var sum score
	line := func(name string, s score) {
		fmt.Printf("| %s | %d | %d | %d %% |\n", name, s.killed, s.survived, 100*s.killed/max(1, s.killed+s.survived))
	}
	names := make([]string, 0, len(scores))
	for name := range scores {
		names = append(names, name)
	}
	slices.Sort(names)
	fmt.Println("| package | seen | unseen | seen of all |\n| --- | ---: | ---: | ---: |")
	for _, name := range names {
		line("`"+strings.TrimPrefix(name, module)+"`", *scores[name])
		sum.killed += scores[name].killed
		sum.survived += scores[name].survived
	}
	line("together", sum)
}
