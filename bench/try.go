package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"gentlepiston.example/piston/core/definition"
)

const tryRounds = 7

// try measures piston try of the demo's trunk pipeline beside the same scripts, in the same order, in a shell.
func (b *bench) try(ctx context.Context) error {
	tree := filepath.Join(b.home, "tidewick")
	if err := b.git(ctx, "checkout", "--quiet", "--force", "main"); err != nil {
		return err
	}
	text, err := os.ReadFile(filepath.Join(tree, "piston/trunk.toml"))
	if err != nil {
		return err
	}
	p, found := definition.Parse("piston/trunk.toml", text,
		func(name string) ([]byte, error) { return os.ReadFile(filepath.Join(tree, name)) })
	if p == nil {
		return fmt.Errorf("the demo's pipeline: %v", found)
	}
	cache, err := os.MkdirTemp("", "piston-bench-try-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(cache)
	env := append(os.Environ(), "XDG_CACHE_HOME="+cache, "PISTON_CONFIG="+filepath.Join(cache, "none.json"),
		"DEPOT_KEY="+demoKey, `SERVICES:harbour={"push_sender":"tidewick"}`)
	depot, err := depotOf(ctx, tree)
	if err != nil {
		return err
	}
	ours := func(slots string) (float64, error) {
		cmd := exec.CommandContext(ctx, os.Getenv("PISTON_BINARY"), "try", "trunk", "--slots", slots,
			"--let-through", depot)
		cmd.Dir, cmd.Env = tree, env
		began := time.Now()
		if out, err := cmd.CombinedOutput(); err != nil {
			return 0, fmt.Errorf("piston try: %w: %s", err, out)
		}
		return time.Since(began).Seconds() * 1000, nil
	}
	if _, err := ours("2"); err != nil { // fills the cache
		return err
	}
	var tried, oneByOne, byHand []float64
	for range tryRounds {
		for slots, list := range map[string]*[]float64{"2": &tried, "1": &oneByOne} {
			spent, err := ours(slots)
			if err != nil {
				return err
			}
			*list = append(*list, spent)
		}
		spent, err := b.shell(ctx, p, tree, env)
		if err != nil {
			return err
		}
		byHand = append(byHand, spent)
	}
	report("piston try trunk, in all, two jobs at a time as it does by itself", tried, "ms")
	report("piston try trunk --slots 1, in all", oneByOne, "ms")
	report("the same scripts by sh -e, their own time only", byHand, "ms")
	for what, list := range map[string][]float64{"two jobs at a time": tried, "one": oneByOne} {
		fmt.Printf("  %s, it adds %.0f ms (%.1f %%)\n", what, median(list)-median(byHand),
			100*(median(list)/median(byHand)-1))
	}
	fmt.Println("  wanted: at most 5 % or 150 ms")
	return nil
}

// depotOf is the address of the demo's depot, which is on this machine.
func depotOf(ctx context.Context, tree string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", "grep", "-hoE", `127\.0\.0\.1:[0-9]+`, "--", "depot.lock")
	cmd.Dir = tree
	out, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("the demo names no depot: %w", err)
	}
	address, _, _ := strings.Cut(string(out), "\n")
	return address, nil
}

// demoKey is the made-up key of the demo's made-up depot.
const demoKey = "feed-7Hq2mKx9-tidewick"

// shell runs the pipeline's scripts one after the other, each job in a fresh copy of the tree with the depot in it, and
// returns the time of the scripts alone, in milliseconds.
func (b *bench) shell(ctx context.Context, p *definition.Pipeline, tree string, env []string) (spent float64,
	err error) {
	top, err := os.MkdirTemp("", "piston-bench-shell-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(top)
	sh := func(dir, script string, more ...string) error {
		cmd := exec.CommandContext(ctx, "sh", "-e", "-c", script)
		cmd.Dir, cmd.Env = dir, append(env, more...)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("by hand: %w: %s", err, out)
		}
		return nil
	}
	prepare := `mkdir -p "$TO" && git archive HEAD | tar -x -C "$TO"`
	for _, name := range p.JobNames() {
		job, dir := p.Job[name], filepath.Join(top, name)
		if err := sh(tree, prepare, "TO="+dir); err != nil {
			return 0, err
		}
		if len(job.Cache) > 0 {
			if err := b.fetchOnce(sh, top, dir); err != nil {
				return 0, err
			}
		}
		for _, take := range p.Takes(job) {
			from, hand, _ := strings.Cut(take, "/")
			for _, glob := range p.Job[from].Hand[hand].Files {
				if err := sh(filepath.Join(top, from), `cp --parents -p `+glob+` "$TO"`, "TO="+dir); err != nil {
					return 0, err
				}
			}
		}
		if err := os.WriteFile(filepath.Join(dir, "android/services.json"), []byte("{}"), 0o600); err != nil {
			return 0, err
		}
		var variables []string
		for k, v := range job.Env {
			variables = append(variables, k+"="+v)
		}
		for _, s := range job.Step {
			began := time.Now()
			if err := sh(dir, s.Script, variables...); err != nil {
				return 0, err
			}
			spent += time.Since(began).Seconds() * 1000
		}
	}
	return spent, nil
}

// fetchOnce puts the depot into a folder, as the cache does.
func (b *bench) fetchOnce(sh func(dir, script string, more ...string) error, top, dir string) error {
	kept := filepath.Join(top, "depot")
	if _, err := os.Stat(kept); err != nil {
		if err := sh(dir, `tools/fetch-depot depot.lock "$TO"`, "TO="+kept); err != nil {
			return err
		}
	}
	return sh(dir, `cp -r "$FROM" depot`, "FROM="+kept)
}

// check measures piston check of a set of 500 lines beside git status of the same tree.
func (b *bench) check(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "piston-bench-check-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.CopyFS(dir, os.DirFS(filepath.Join(b.home, "tidewick"))); err != nil {
		return err
	}
	own, err := filepath.Glob(filepath.Join(dir, "piston", "*.toml"))
	if err != nil {
		return err
	}
	for _, file := range own { // the set is to be of 500 lines, not of more
		if err := os.Remove(file); err != nil {
			return err
		}
	}
	lines := 0
	for n := range 5 {
		text := fmt.Sprintf("about = \"Pipeline %d\"\n[trigger.push]\nbranches = [\"main\"]\n", n)
		for i := range 12 {
			text += fmt.Sprintf("[job.j%d]\ntools = { clang = \">=11\" }\n[[job.j%d.step]]\nname = \"test\"\nscript = \"make "+
				"test\"\nnetwork = \"none\"\n[[job.j%d.step]]\nscript = \"tools/fetch-depot depot.lock depot\"\n", i, i, i)
		}
		lines += strings.Count(text, "\n")
		if err := os.WriteFile(filepath.Join(dir, "piston", fmt.Sprintf("more%d.toml", n)), []byte(text), 0o644); err != nil {
			return err
		}
	}
	var ours, status []float64
	for range 15 {
		for list, args := range map[*[]float64][]string{&ours: {os.Getenv("PISTON_BINARY"), "check", "--offline"},
			&status: {"git", "status", "--short"}} {
			cmd := exec.CommandContext(ctx, args[0], args[1:]...)
			cmd.Dir = dir
			began := time.Now()
			_ = cmd.Run() // it warns that the files are not tracked
			*list = append(*list, time.Since(began).Seconds()*1000)
		}
	}
	report(fmt.Sprintf("piston check of %d lines", lines), ours, "ms")
	report("git status of the same tree", status, "ms")
	fmt.Printf("  %.1f times git status; wanted: p95 at most 20 ms\n", median(ours)/median(status))
	return nil
}

func median(values []float64) float64 {
	list := append([]float64(nil), values...)
	sort.Float64s(list)
	return list[len(list)/2]
}
