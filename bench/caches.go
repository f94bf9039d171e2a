package main

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/source"
)

// forest is a folder to be saved and restored.
type forest struct {
	name  string
	files int
	bytes int64 // in all; 0 for one that npm installs
}

var forests = []forest{{"generated", 7_000, 120 << 20}, {"generated", 60_000, 1500 << 20}, {"npm", 26_000, 0}}

// installed are packages whose node_modules has about 26,000 files.
var installed = []string{"@angular/cli@18.2.12", "@angular/compiler-cli@18.2.12",
	"@angular-devkit/build-angular@18.2.12",
	"webpack@5.96.1"}

// cachesYard is a service with a runner whose steps see this machine, so that they can take folders from it.
type cachesYard struct {
	*yard
	dir    string
	runner *exec.Cmd
	homes  int
}

// cachesPart measures saving and restoring folders, each beside tar and zstd.
func cachesPart(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "piston-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	for _, f := range forests {
		if err := caches(ctx, filepath.Join(dir, fmt.Sprint(f.name, f.files)), f); err != nil {
			return err
		}
	}
	return nil
}

func caches(ctx context.Context, dir string, f forest) error {
	tree := filepath.Join(dir, "tree")
	if err := os.MkdirAll(tree, 0o755); err != nil {
		return err
	}
	if f.bytes > 0 {
		if err := grow(tree, f); err != nil {
			return err
		}
	} else if err := install(ctx, tree); err != nil {
		fmt.Printf("\nreal node_modules: left out, npm cannot install them here: %v\n", err)
		return nil
	}
	y, err := openYard(ctx)
	if y != nil {
		defer y.close()
	}
	if err != nil {
		return err
	}
	c := &cachesYard{yard: y, dir: dir}
	defer c.end()
	return c.measure(ctx, tree, f)
}

func (c *cachesYard) measure(ctx context.Context, tree string, f forest) error {
	files, size, err := countFiles(tree)
	if err != nil {
		return err
	}
	fmt.Printf("\n%s tree of %d MB in %d files\n", f.name, size>>20, files)
	packed := filepath.Join(c.dir, "by-hand.tar.zst")
	var saves, restores []float64
	byHand := func() error {
		took, err := shell(ctx, "tar -C '"+tree+"' -cf - . | zstd -q -f -3 -T0 -o '"+packed+"'")
		if err != nil {
			return err
		}
		saves = append(saves, took)
		took, err = shell(ctx, "mkdir '"+c.dir+"/out' && zstd -q -d -c '"+packed+"' | tar -C '"+c.dir+"/out' -xf -")
		restores = append(restores, took)
		return errors.Join(err, os.RemoveAll(c.dir+"/out"))
	}
	for range 3 {
		if err := byHand(); err != nil {
			return err
		}
	}
	save, restore := median(saves), median(restores)
	info, err := os.Stat(packed)
	if err != nil {
		return err
	}
	if err := os.Remove(packed); err != nil {
		return err
	}
	fmt.Printf("  by hand: tar | zstd -3 -T0 %.0f ms, %d MB; zstd -d | tar x %.0f ms\n", save, info.Size()>>20, restore)

	if err := c.startRunner(ctx); err != nil {
		return err
	}
	first, err := c.run(ctx, "one", "cp -a '"+tree+"' depot && sync")
	if err != nil {
		return err
	}
	beside("first save", first.TookMs, save, 1)
	fmt.Printf("    %d MB stored\n", first.Stored>>20)
	here, err := c.run(ctx, "one", "test -d depot")
	if err != nil {
		return err
	}
	beside("restored, local tier", here.TookMs, restore, 0.05)
	changed, err := c.run(ctx, "two", "find depot -type f | sort | awk 'NR % 100 == 7' | "+
		"while read f; do echo \"changed $(date +%N)\" >> \"$f\"; done; sync")
	if err != nil {
		return err
	}
	beside("save with 1 % of the files changed", changed.TookMs, save, 0.15)
	fmt.Printf("    %.2f %% of the bytes of the first; wanted: at most 3\n",
		100*float64(changed.Stored)/float64(first.Stored))
	same, err := c.run(ctx, "three", "true")
	if err != nil {
		return err
	}
	beside("save with nothing changed", same.TookMs, save, 0.05)
	memory := c.memory()
	c.end()
	if err := c.startRunner(ctx); err != nil { // which has nothing
		return err
	}
	fetched, err := c.run(ctx, "one", "test -d depot && diff -r depot '"+tree+"'")
	if err != nil {
		return err
	}
	if fetched.Here {
		return errors.New("the tree was on the new runner before it was fetched")
	}
	beside("restored, from the service", fetched.TookMs, restore, 0.7)
	fmt.Printf("  memory of the runner: saving %d MB, restoring %d MB; wanted: under 150\n", memory>>20, c.memory()>>20)
	return nil
}

func beside(what string, ours int64, byHand, wanted float64) {
	fmt.Printf("  %-36s %6d ms, %.3f times; wanted: at most %.2f\n", what, ours, float64(ours)/byHand, wanted)
}

// startRunner starts a runner with an empty home.
func (c *cachesYard) startRunner(ctx context.Context) error {
	c.homes++
	token := filepath.Join(c.dir, "token")
	if err := os.WriteFile(token, []byte(c.token), 0o600); err != nil {
		return err
	}
	c.runner = exec.CommandContext(ctx, os.Getenv("PISTON_BINARY"), "runner", "--server", c.host.Address, "--token-file",
		token, "--home", filepath.Join(c.dir, fmt.Sprint("runner", c.homes)), "--name", fmt.Sprint("bench", c.homes),
		"--isolation", "none", "--finish-within", "0s", "--quiet")
	c.runner.Stderr = os.Stderr
	return c.runner.Start()
}

// end ends the runner.
func (c *cachesYard) end() {
	if c.runner != nil {
		_ = c.runner.Process.Signal(syscall.SIGTERM)
		_ = c.runner.Wait()
		c.runner = nil
	}
}

// memory is the most that the runner, and what it started to be apart, has had resident, in bytes.
func (c *cachesYard) memory() (most int64) {
	pids := []string{fmt.Sprint(c.runner.Process.Pid)}
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", c.runner.Process.Pid))
	for _, task := range tasks {
		text, _ := os.ReadFile(task)
		pids = append(pids, strings.Fields(string(text))...)
	}
	for _, pid := range pids {
		text, err := os.ReadFile("/proc/" + pid + "/status")
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			var kb int64
			if _, err := fmt.Sscanf(line, "VmHWM: %d", &kb); err == nil {
				most = max(most, kb<<10)
			}
		}
	}
	return most
}

// run has a job follow a word and do something, and gives what came of its cache.
func (c *cachesYard) run(ctx context.Context, word, do string) (use api.CacheUse, err error) {
	text := "[job.a.cache.tree]\npaths = [\"depot\"]\nfollows = [\"word\"]\n" +
		"[[job.a.step]]\nscript = '''\n" + do + "\n'''\n"
	for name, content := range map[string]string{"piston/caches.toml": text, "word": word} {
		if err := os.WriteFile(filepath.Join(c.repo, name), []byte(content), 0o644); err != nil {
			return use, err
		}
	}
	for _, args := range [][]string{{"add", "-A"}, {"commit", "--quiet", "--allow-empty", "--message", "Follow " + word}} {
		cmd := exec.CommandContext(ctx, "git", args...)
		cmd.Dir, cmd.Env = c.repo, source.Environment(map[string]string{"user.name": "Bench",
			"user.email": "b@tidewick.example"})
		if out, err := cmd.CombinedOutput(); err != nil {
			return use, fmt.Errorf("git %s: %w: %s", args[0], err, out)
		}
	}
	r, err := c.cl.StartRun(ctx, "yard", api.StartRun{Pipeline: "caches"})
	if err != nil {
		return use, err
	}
	for {
		d, err := c.cl.Run(ctx, "yard", r.Number)
		if err != nil {
			return use, err
		}
		if d.State.Over() {
			if d.State != state.Passed || len(d.Jobs[0].Caches) == 0 || d.Jobs[0].Caches[0].Note != "" {
				return use, fmt.Errorf("the run %s: %s %+v", d.State, d.Reason, d.Jobs)
			}
			return d.Jobs[0].Caches[0], nil
		}
		time.Sleep(200 * time.Millisecond) // each look takes time of what is measured
	}
}

// shell runs a command line and gives how many milliseconds it took.
func shell(ctx context.Context, line string) (float64, error) {
	began := time.Now()
	out, err := exec.CommandContext(ctx, "/bin/sh", "-c", line).CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("%s: %w: %s", line, err, out)
	}
	return time.Since(began).Seconds() * 1000, nil
}

func countFiles(dir string) (n int, size int64, err error) {
	err = filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		n++
		size += info.Size()
		return err
	})
	return n, size, err
}

// grow makes a tree of files whose lengths are spread as those of sources are, with texts that repeat words as those
// do, and every tenth of bytes that cannot be packed.
func grow(dir string, f forest) error {
	rng := rand.New(rand.NewPCG(7, uint64(f.files)))
	noise := rand.NewChaCha8([32]byte{7})
	words := make([]string, 3000)
	for i := range words {
		words[i] = strings.Repeat(string(rune('a'+rng.IntN(26))), 1+rng.IntN(2)) +
			fmt.Sprintf("%x", rng.IntN(1<<(4+rng.IntN(16))))
	}
	mean := float64(f.bytes) / float64(f.files)
	for i := range f.files {
		n := int(mean / 2 * math.Exp(rng.NormFloat64()*1.18)) // a mean of twice the median
		text := make([]byte, 0, n+32)
		if i%10 == 0 {
			text = text[:n]
			_, _ = noise.Read(text)
		}
		for len(text) < n {
			text = append(append(text, words[int(float64(len(words))*math.Pow(rng.Float64(), 3))]...), " .(){}\n"[rng.IntN(7)])
		}
		at := filepath.Join(dir, fmt.Sprintf("pack%d", i%400), fmt.Sprintf("lib%d", i%7))
		if err := os.MkdirAll(at, 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(at, fmt.Sprintf("file%d.js", i)), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// install has npm install packages into a folder, as a project with many dependencies has them.
func install(ctx context.Context, dir string) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "npm", append([]string{"install", "--ignore-scripts", "--legacy-peer-deps",
		"--no-audit", "--no-fund", "--loglevel=error", "--prefix", dir}, installed...)...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %.300s", err, out)
	}
	return nil
}
