package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/reach"
	"gentlepiston.example/piston/local"
	"gentlepiston.example/piston/runner"
	"gentlepiston.example/piston/runner/mount"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/runner/sandbox/netns"
)

func runnerCommand() *cli.Command {
	hostname, _ := os.Hostname()
	return &cli.Command{
		Name:  "runner",
		Usage: "execute jobs on this machine for a service",
		Description: "Asks the service for jobs and runs their steps, each in a sandbox. It needs a token of its own " +
			"kind:\n" +
			"piston token add --runner NAME makes one. It tells the service the versions of the tools it finds. Ctrl-C or " +
			"SIGTERM lets the jobs at hand finish, then hands back what is left.\n\n" +
			terminal.Example("piston runner --server http://127.0.0.1:7460 --token-file runner.token --label macos"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "server", Usage: "address of the service", Required: true,
				Sources: cli.EnvVars("PISTON_SERVER")},
			&cli.StringFlag{Name: "token-file", Usage: "file that holds the runner's token; or set PISTON_TOKEN"},
			&cli.StringFlag{Name: "name", Usage: "its name; no two runners may have the same",
				Value: strings.ReplaceAll(hostname, " ", "-")},
			&cli.StringFlag{Name: "home", Usage: "folder to work in", Value: "piston-runner"},
			&cli.StringSliceFlag{Name: "label",
				Usage: "label it has besides those of its system and processor; may be repeated"},
			&cli.IntFlag{Name: "slots", Usage: "jobs at a time", Value: 1},
			&cli.StringFlag{Name: "isolation", Usage: "how steps are kept apart: bubblewrap or none", Value: "bubblewrap"},
			&cli.StringFlag{Name: "disk", Usage: "most space a job's files may take, such as 20GB; 0 for no limit",
				Value: "20GB", Sources: cli.EnvVars("PISTON_RUNNER_DISK")},
			&cli.StringFlag{Name: "memory", Usage: "most memory of a job's processes together, such as 8GB; 0 for no limit",
				Value: "0", Sources: cli.EnvVars("PISTON_RUNNER_MEMORY")},
			&cli.StringFlag{Name: "keep-size", Usage: "most bytes of a job's artifacts together; 0 for no limit", Value: "20GB",
				Sources: cli.EnvVars("PISTON_RUNNER_KEEP")},
			&cli.StringFlag{Name: "hand-size", Usage: "most bytes of what a job hands on under one name; 0 for no limit",
				Value: "20GB", Sources: cli.EnvVars("PISTON_RUNNER_HAND")},
			&cli.StringFlag{Name: "tier-size", Usage: "most bytes of saved folders that are kept on this machine, so that " +
				"they are mounted and not fetched, and as many of repositories; 0 for no limit",
				Value: "20GB", Sources: cli.EnvVars("PISTON_RUNNER_TIER")},
			&cli.StringFlag{Name: "cache-size", Usage: "most bytes of one cache; 0 for no limit", Value: "20GB",
				Sources: cli.EnvVars("PISTON_RUNNER_CACHE")},
			&cli.IntFlag{Name: "processes", Usage: "most processes and threads of a job; 0 for no limit", Value: 8192,
				Sources: cli.EnvVars("PISTON_RUNNER_PROCESSES")},
			&cli.IntFlag{Name: "open-files", Usage: "most files a process of a job may have open; 0 for the machine's own limit",
				Value: 16384, Sources: cli.EnvVars("PISTON_RUNNER_OPEN_FILES")},
			&cli.StringFlag{Name: "log-size", Usage: "most that a job may print, such as 256MB; 0 for no limit", Value: "256MB",
				Sources: cli.EnvVars("PISTON_RUNNER_LOG_SIZE")},
			&cli.StringSliceFlag{Name: "tool",
				Usage: "a tool besides those it looks for itself, as NAME=COMMAND whose output holds the version; may be " +
					"repeated",
				Sources: cli.EnvVars("PISTON_RUNNER_TOOLS")},
			&cli.StringFlag{Name: "network",
				Usage: "outside: steps are given the world, and nothing inside; any: also this machine's own network to those " +
					"that ask, where their project may; host: all have it", Value: "outside",
				Sources: cli.EnvVars("PISTON_RUNNER_NETWORK")},
			&cli.StringSliceFlag{Name: "let-through",
				Usage: "what inside may be reached by repositories and steps all the same: NAME:PORT, ADDRESS:PORT or a range " +
					"such as 10.2.0.0/16; may be repeated", Sources: cli.EnvVars("PISTON_RUNNER_LET_THROUGH")},
			&cli.StringFlag{Name: "ca-file",
				Usage:   "certificates (PEM) of authorities to believe besides the machine's, for the service and for git",
				Sources: cli.EnvVars("PISTON_CA_FILE", "SSL_CERT_FILE")},
			&cli.DurationFlag{Name: "finish-within",
				Usage: "how long the jobs at hand may go on when it is ended; then they are handed back, which counts as no " +
					"try. A second signal hands them back at once", Value: time.Minute},
			&cli.BoolFlag{Name: "verbose", Usage: "tell more"},
			&cli.BoolFlag{Name: "quiet", Usage: "tell only what is wrong"},
			&cli.IntFlag{Name: "parent", Usage: "process it belongs to; when that ends, it ends after the jobs at hand",
				Hidden: true},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if ended, code := mount.Enter(); ended {
				return terminal.Ending(code, errors.New("")) // it has said why
			}
			debug.SetGCPercent(100) // it lives for long
			debug.SetMemoryLimit(runnerMemory)
			token, err := runnerToken(c.String("token-file"))
			if err != nil {
				return err
			}
			most, err := mostOf(c)
			if err != nil {
				return err
			}
			probes, err := toolProbes(c.StringSlice("tool"))
			if err != nil {
				return err
			}
			through, err := letThrough(c.StringSlice("let-through"))
			if err != nil {
				return err
			}
			cl := client.New(c.String("server"), token)
			ca, err := believe(cl, c.String("ca-file"))
			if err != nil {
				return err
			}
			level := slog.LevelInfo
			if c.Bool("quiet") {
				level = slog.LevelWarn
			}
			log := newLog(os.Stderr, level, c.Bool("verbose"))
			tierSize, err := quantity.ParseBytes(c.String("tier-size"))
			if err != nil {
				return terminal.Usage("--tier-size: %v", err)
			}
			parent := c.Int("parent")
			lock, err := waitForLock(ctx, c.String("home"), parent != 0)
			if err != nil {
				return err
			}
			defer lock.Unlock()
			isolation := sandbox.Isolation(c.String("isolation"))
			r, err := runner.New(runner.Config{Tools: runner.FindTools(ctx, isolation, probes, nil), Probes: probes,
				Name: c.String("name"), Version: programVersion(), Home: c.String("home"), Labels: c.StringSlice("label"),
				Slots: c.Int("slots"), Isolation: isolation, Most: most, Tier: tierSize,
				Client: cl, CA: ca, Program: netProgram(), Network: sandbox.Network(c.String("network")),
				Reach: reach.Policy{Through: through}, Log: log})
			if err != nil {
				return err
			}
			r.Client.TokenFile = c.String("token-file")
			drain := make(chan struct{})
			if parent != 0 {
				go func() {
					for os.Getppid() == parent {
						time.Sleep(200 * time.Millisecond)
					}
					log.Info("the service's process is gone; ending after the jobs at hand")
					close(drain)
				}()
			}
			life, end := context.WithCancel(context.WithoutCancel(ctx))
			defer end()
			stopDraining := make(chan struct{})
			closeDrain := sync.OnceFunc(func() { close(stopDraining) })
			go func() {
				select {
				case <-drain:
					closeDrain()
				case <-ctx.Done():
				}
			}()
			go endInOrder(ctx, life, c.Duration("finish-within"), log, closeDrain, end)
			return r.Run(life, stopDraining)
		},
	}
}

// runnerMemory is from when on a runner collects what it needs no more before it takes more memory, in bytes: the
// machine is for the jobs.
const runnerMemory = 100 << 20

// netProgram is the command that prepares a job's network from within.
func netProgram() []string {
	binary, err := os.Executable()
	if err != nil {
		return []string{"piston", runnerNetName}
	}
	return []string{binary, runnerNetName}
}

const runnerNetName = "runner-net"

func runnerNetCommand() *cli.Command {
	return &cli.Command{
		Name: runnerNetName, Usage: "prepare a job's network from within; a runner starts it", Hidden: true,
		Action: func(context.Context, *cli.Command) error { return netns.Prepare() },
	}
}

// letThrough reads what inside may be reached.
func letThrough(list []string) (through []reach.Allowance, err error) {
	for _, text := range list {
		a, err := reach.ParseAllowance(text)
		if err != nil {
			return nil, terminal.Usage("--let-through: %v", err)
		}
		through = append(through, a)
	}
	return through, nil
}

// believe reads certificates of authorities, and has a client believe them.
func believe(cl *client.Client, file string) ([]byte, error) {
	if file == "" {
		return nil, nil
	}
	ca, err := os.ReadFile(file)
	if err == nil {
		err = cl.Believe(ca)
	}
	if err != nil {
		return nil, terminal.Usage("--ca-file %s: %v", file, err)
	}
	return ca, nil
}

// endInOrder has a runner finish what it has when ctx ends, which the first signal does: it claims no more, and after a
// time, or at a second signal, hands back what is left.
func endInOrder(ctx, life context.Context, within time.Duration, log *slog.Logger, drain, end func()) {
	select {
	case <-ctx.Done():
	case <-life.Done():
		return
	}
	drain()
	if within > 0 {
		log.Info("ending: no more jobs are taken; those at hand may go on for a while", "for", within)
	}
	again := make(chan os.Signal, 1)
	signal.Notify(again, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(again)
	select {
	case <-time.After(within):
	case <-again:
	case <-life.Done():
	}
	end()
}

// mostOf reads what a job may take.
func mostOf(c *cli.Command) (most definition.Numbers, err error) {
	for name, to := range map[string]*int64{"disk": &most.Disk, "memory": &most.Memory, "log-size": &most.Log,
		"keep-size": &most.Keep, "hand-size": &most.Hand, "cache-size": &most.Cache} {
		if *to, err = quantity.ParseBytes(c.String(name)); err != nil {
			return most, terminal.Ending(terminal.ExitUsage, fmt.Errorf("--%s: %w", name, err))
		}
	}
	most.Processes, most.OpenFiles = c.Int("processes"), c.Int("open-files")
	if most.Processes < 0 || most.OpenFiles < 0 {
		return most, terminal.Usage("--processes and --open-files are numbers of 0 or more")
	}
	return most, nil
}

// toolProbes reads NAME=COMMAND pairs.
func toolProbes(list []string) (probes []runner.Probe, err error) {
	for _, text := range list {
		name, command, ok := strings.Cut(text, "=")
		if !ok || name == "" || strings.TrimSpace(command) == "" {
			return nil, terminal.Usage("--tool %q: write NAME=COMMAND, such as 'ndk=cat /opt/ndk/source.properties'", text)
		}
		probes = append(probes, runner.Probe{Name: name, Command: command})
	}
	return probes, nil
}

// waitForLock holds the runner's folder. A runner started by a service waits for one that an earlier life of the
// service has left behind, which ends by itself after the jobs at hand.
func waitForLock(ctx context.Context, home string, wait bool) (*local.Lock, error) {
	for {
		lock, err := local.LockFolder(home, "runner.lock")
		if !wait || !errors.Is(err, local.ErrInUse) {
			return lock, err
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func runnerToken(file string) (string, error) {
	if file == "" {
		if token := os.Getenv("PISTON_TOKEN"); token != "" {
			return token, nil
		}
		return "", terminal.Usage(
			"a runner needs a token: give --token-file, or set PISTON_TOKEN; piston token add --runner NAME " +
				"makes one")
	}
	text, err := os.ReadFile(file)
	return strings.TrimSpace(string(text)), err
}
