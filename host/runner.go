package host

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/runner/mount"
	"gentlepiston.example/piston/service"
	"gentlepiston.example/piston/service/ground"
)

// child is the runner that belongs to this machine's service, a process of its own, started again when it ends.
type child struct {
	log    *slog.Logger
	make   func() *exec.Cmd
	cancel context.CancelFunc
	done   chan struct{}
}

// stopWithin is how long the runner has to end its steps.
const stopWithin = 10 * time.Second

func startRunner(ctx context.Context, s *service.Service, address, home string, o Options) (*child, error) {
	binary, err := os.Executable()
	if err != nil {
		return nil, err
	}
	tokenFile, err := runnerToken(ctx, s, home)
	if err != nil {
		return nil, err
	}
	life, cancel := context.WithCancel(context.Background())
	c := &child{log: o.Log, cancel: cancel, done: make(chan struct{})}
	args := []string{"runner", "--server", address, "--token-file", tokenFile, "--home", filepath.Join(home, "runner"),
		"--name", "local", "--slots", strconv.Itoa(o.Slots), "--isolation", o.Isolate, "--finish-within", "0s", "--parent",
		strconv.Itoa(os.Getpid())}
	if !o.Log.Enabled(ctx, slog.LevelInfo) {
		args = append(args, "--quiet")
	}
	if o.Network != "" {
		args = append(args, "--network", o.Network)
	}
	for _, through := range o.Through {
		args = append(args, "--let-through", through)
	}
	c.make = func() *exec.Cmd {
		cmd := exec.Command(binary, args...)
		cmd.Stdout, cmd.Stderr, cmd.Env = os.Stderr, os.Stderr, withoutOurs(os.Environ())
		// A group of its own: a Ctrl-C in the terminal ends the server, which then ends the runner in order.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		mount.Separate(cmd)
		return cmd
	}
	go c.watch(life)
	return c, nil
}

// ours are what the environment tells the service and no program that it starts.
var ours = []string{"PISTON_MASTER", "PISTON_DATABASE", "PISTON_ISSUER_SECRET", "CREDENTIALS_DIRECTORY"}

// withoutOurs is an environment that may be given away.
func withoutOurs(env []string) []string {
	return slices.DeleteFunc(env, func(v string) bool {
		name, _, _ := strings.Cut(v, "=")
		return slices.Contains(ours, name)
	})
}

// runnerToken keeps a runner's token in a file only its owner can read.
func runnerToken(ctx context.Context, s *service.Service, home string) (file string, err error) {
	file = filepath.Join(home, "runner.token")
	if text, err := os.ReadFile(file); err == nil {
		_, err := s.People.ByToken(ctx, strings.TrimSpace(string(text)))
		if err == nil || !errors.Is(err, ground.ErrNotFound) {
			return file, err
		}
	}
	issued, err := s.People.IssueToken(ground.AsItself(ctx),
		api.NewToken{Name: "the runner of this machine", Kind: api.RunnerToken})
	if err != nil {
		return "", err
	}
	return file, os.WriteFile(file, []byte(issued.Secret+"\n"), 0o600)
}

func (c *child) watch(ctx context.Context) {
	defer close(c.done)
	for wait := 100 * time.Millisecond; ctx.Err() == nil; {
		began := time.Now()
		err := c.once(ctx)
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > 10*time.Second {
			wait = 100 * time.Millisecond
		}
		c.log.Warn("the runner has ended; starting it again", "error", fmt.Sprint(err), "in", wait)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
		}
		wait = min(wait*2, 5*time.Second)
	}
}

func (c *child) once(ctx context.Context) error {
	cmd := c.make()
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	_ = cmd.Process.Signal(syscall.SIGTERM)
	select {
	case err := <-ended:
		return err
	case <-time.After(stopWithin):
		_ = cmd.Process.Kill()
		return <-ended
	}
}

func (c *child) stop() {
	c.cancel()
	<-c.done
}
