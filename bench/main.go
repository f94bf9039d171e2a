// Command bench measures what the service costs, each time beside what a user would do by hand, in one run. With
// arguments only those parts: idle, check, try, push, empty, mask, secrets, queue, versions, sign,
// reused, caches, collect, history, webhooks.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"syscall"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/local"
	"gentlepiston.example/piston/source"
)

const (
	pushes    = 40
	emptyRuns = 3
	steps     = 200
)

func main() {
	log.SetFlags(0)
	if err := run(); err != nil {
		log.Fatal("bench: ", err)
	}
}

// part is something that is measured.
type part struct {
	name    string
	measure func(context.Context) error
}

func run() error {
	home, err := os.MkdirTemp("", "piston-bench-")
	if err != nil {
		return err
	}
	defer local.RemoveFolder(home)
	b := &bench{home: home}
	parts := []part{{"idle", b.idle}, {"check", b.check}, {"try", b.try}, {"push", b.push}, {"empty", b.empty},
		{"mask", b.mask}, {"secrets", b.secrets}, {"queue", queue},
		{"versions", versions}, {"sign", signing}, {"reused", b.reused}, {"caches", cachesPart}, {"collect", collecting},
		{"history", history}, {"webhooks", webhooks}}
	asked := os.Args[1:]
	for _, name := range asked {
		if !slices.ContainsFunc(parts, func(p part) bool { return p.name == name }) {
			return fmt.Errorf("there is no part called %q", name)
		}
	}
	fmt.Printf("%s, %d processors; the demo is being played first\n", runtime.Version(), runtime.NumCPU())
	if err := b.start(); err != nil {
		return err
	}
	defer b.stop()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	for _, p := range parts {
		if len(asked) > 0 && !slices.Contains(asked, p.name) {
			continue
		}
		if err := p.measure(ctx); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return nil
}

// bench is a demo that serves, and the client to it.
type bench struct {
	home string
	cmd  *exec.Cmd
	cl   *client.Client
}

func (b *bench) start() error {
	binary := os.Getenv("PISTON_BINARY")
	if binary == "" {
		return errors.New("run it by make bench")
	}
	b.cmd = exec.Command(binary, "demo", "--hybrid=false", "--history=false", "--home", b.home, "--listen",
		"127.0.0.1:7469")
	out, err := b.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := b.cmd.Start(); err != nil {
		return err
	}
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if strings.Contains(lines.Text(), "Ctrl-C stops everything") {
			break
		}
	}
	text, err := os.ReadFile(filepath.Join(b.home, "client.json"))
	if err != nil {
		return fmt.Errorf("the demo did not start: %w", err)
	}
	var s struct{ Server, Token string }
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	b.cl = client.New(s.Server, s.Token)
	return nil
}

func (b *bench) stop() {
	_ = b.cmd.Process.Signal(syscall.SIGINT)
	_ = b.cmd.Wait()
}

func (b *bench) git(ctx context.Context, args ...string) error {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = filepath.Join(b.home, "tidewick")
	cmd.Env = append(source.Environment(map[string]string{"user.name": "Bench", "user.email": "bench@tidewick.example"}),
		"GIT_ALLOW_PROTOCOL=file")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, out)
	}
	return nil
}

// idle tells the server's memory after the demo, with nothing to do.
func (b *bench) idle(context.Context) error {
	time.Sleep(3 * time.Second)
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", b.cmd.Process.Pid))
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, "VmRSS") {
			var kb float64
			if _, err := fmt.Sscanf(line, "VmRSS: %f", &kb); err != nil {
				return err
			}
			fmt.Printf("\nidle server, without PostgreSQL: %.0f MB resident (limit 120)\n", kb/1000)
		}
	}
	return nil
}

var errSeen = errors.New("seen")

// push measures from git push's return to the first line of the first step on the event stream.
func (b *bench) push(ctx context.Context) error {
	if err := b.git(ctx, "checkout", "--quiet", "--force", "main"); err != nil {
		return err
	}
	page, err := b.cl.Runs(ctx, "tidewick", client.RunFilter{Limit: 1})
	if err != nil {
		return err
	}
	next := page.Runs[0].Number + 1
	var took []float64
	for i := range pushes {
		if err := os.WriteFile(filepath.Join(b.home, "tidewick", "count"), []byte(fmt.Sprint(i)), 0o644); err != nil {
			return err
		}
		for _, args := range [][]string{{"add", "count"},
			{"commit", "--quiet", "--message", fmt.Sprintf("Push %d of the benchmark", i)}} {
			if err := b.git(ctx, args...); err != nil {
				return err
			}
		}
		seen := make(chan time.Time, 1)
		failed := make(chan error, 1)
		go func(run record.RunNumber) {
			at, err := b.firstLine(ctx, run)
			if err != nil {
				failed <- err
			}
			seen <- at
		}(next)
		if err := b.git(ctx, "push", "--quiet", "origin", "main"); err != nil {
			return err
		}
		pushed := time.Now()
		select {
		case at := <-seen:
			took = append(took, max(0, at.Sub(pushed).Seconds()*1000))
		case err := <-failed:
			return err
		}
		if err := b.end(ctx, next); err != nil {
			return err
		}
		next++
	}
	report("git push returned → first line of the first step on the event stream", took, "ms")
	fmt.Println("  wanted: p95 at most 100 ms")
	return nil
}

// firstLine waits for a run that is not there yet, then for the first line of its first step.
func (b *bench) firstLine(ctx context.Context, run record.RunNumber) (time.Time, error) {
	err := b.cl.Stream(ctx, client.Topic{Project: "tidewick"}, "", func(e client.Event) error {
		if e.Change != nil && e.Change.Run == run {
			return errSeen
		}
		return nil
	})
	if !errors.Is(err, errSeen) {
		return time.Time{}, err
	}
	err = b.cl.Stream(ctx, client.Topic{Project: "tidewick", Run: run, Log: "*"}, "", func(e client.Event) error {
		if e.Log == nil {
			return nil
		}
		for _, l := range e.Log.Lines {
			if l.Step == 0 {
				return errSeen
			}
		}
		return nil
	})
	if !errors.Is(err, errSeen) {
		return time.Time{}, err
	}
	return time.Now(), nil
}

// end stops a run and waits until it is over, so that the runner is free for the next.
func (b *bench) end(ctx context.Context, run record.RunNumber) error {
	if err := b.cl.StopRun(ctx, "tidewick", run); err != nil && !client.IsStatus(err, 422) {
		return err
	}
	_, err := b.await(ctx, "tidewick", run)
	return err
}

func (b *bench) await(ctx context.Context, project string, run record.RunNumber) (api.RunDetail, error) {
	for {
		d, err := b.cl.Run(ctx, project, run)
		if err != nil || d.State.Over() {
			return d, err
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// awaitNew waits for the end of a run that may not be there yet.
func (b *bench) awaitNew(ctx context.Context, run record.RunNumber) (api.RunDetail, error) {
	for {
		d, err := b.await(ctx, "tidewick", run)
		if !errors.Is(err, client.ErrNotFound) {
			return d, err
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// offer pushes a pipeline to a branch of its own name.
func (b *bench) offer(ctx context.Context, name, text string) error {
	if err := os.WriteFile(filepath.Join(b.home, "tidewick", "piston", name+".toml"), []byte(text), 0o644); err != nil {
		return err
	}
	for _, args := range [][]string{{"add", "-A"}, {"commit", "--quiet", "--message", "Offer the pipeline " + name},
		{"push", "--quiet", "origin", "HEAD:refs/heads/" + name}} {
		if err := b.git(ctx, args...); err != nil {
			return err
		}
	}
	return nil
}

// passed starts a pipeline that was offered and waits for its end, which must be a good one.
func (b *bench) passed(ctx context.Context, name string) (api.RunDetail, error) {
	r, err := b.cl.StartRun(ctx, "tidewick", api.StartRun{Pipeline: name, Ref: name})
	if err != nil {
		return api.RunDetail{}, err
	}
	d, err := b.await(ctx, "tidewick", r.Number)
	if err == nil && d.State != "passed" {
		err = fmt.Errorf("the run of %s %s: %s", name, d.State, d.Reason)
	}
	return d, err
}

// empty measures a job of many steps that do nothing, beside the same by a shell and by bubblewrap alone.
func (b *bench) empty(ctx context.Context) error {
	var file strings.Builder
	for i := range steps {
		fmt.Fprintf(&file, "[[job.empty.step]]\nname = \"nothing %d\"\nscript = \"true\"\n", i)
	}
	if err := b.offer(ctx, "empty", file.String()); err != nil {
		return err
	}
	var ours, shell, sandbox []float64
	for range emptyRuns {
		d, err := b.passed(ctx, "empty")
		if err != nil {
			return err
		}
		list := d.Jobs[0].Steps
		ours = append(ours, list[len(list)-1].Finished.Sub(*list[0].Started).Seconds()*1000/steps)
		one, err := times(ctx, "sh", "-c", "true")
		if err != nil {
			return err
		}
		shell = append(shell, one)
		if one, err = times(ctx, "bwrap", "--unshare-user", "--unshare-pid", "--ro-bind", "/usr", "/usr", "--symlink",
			"usr/bin", "/bin",
			"--symlink", "usr/lib", "/lib", "--symlink", "usr/lib64", "/lib64", "--proc", "/proc", "--dev", "/dev", "sh", "-c",
			"true"); err != nil {
			return err
		}
		sandbox = append(sandbox, one)
	}
	fmt.Printf("\na step that does nothing, mean of %d, in each of %d rounds\n", steps, emptyRuns)
	for i := range ours {
		fmt.Printf("  piston %5.1f ms   sh -c %4.1f ms   bubblewrap alone %4.1f ms   the engine adds %4.1f ms (%.1f times "+
			"sh -c)\n",
			ours[i], shell[i], sandbox[i], ours[i]-shell[i], ours[i]/shell[i])
	}
	fmt.Println("  wanted: at most 5 ms over bubblewrap")
	return nil
}

// times runs a command as often as there are steps and returns the mean in milliseconds.
func times(ctx context.Context, name string, args ...string) (float64, error) {
	began := time.Now()
	for range steps {
		if out, err := exec.CommandContext(ctx, name, args...).CombinedOutput(); err != nil {
			return 0, fmt.Errorf("%s: %w: %s", name, err, out)
		}
	}
	return time.Since(began).Seconds() * 1000 / steps, nil
}

func report(what string, values []float64, unit string) {
	sort.Float64s(values)
	at := func(q float64) float64 { return values[min(len(values)-1, int(q*float64(len(values))))] }
	fmt.Printf("\n%s, %d times\n  least %.1f   p50 %.1f   p75 %.1f   p90 %.1f   p95 %.1f   most %.1f %s\n", what,
		len(values),
		values[0], at(0.5), at(0.75), at(0.9), at(0.95), values[len(values)-1], unit)
}
