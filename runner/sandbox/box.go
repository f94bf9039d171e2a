package sandbox

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/runner/process"
	"gentlepiston.example/piston/runner/sandbox/netns"
)

// Grace is how long a step has to end by itself after it was asked to (SIGTERM), before it is killed.
const Grace = 5 * time.Second

// Box is what the steps of one job are in.
type Box struct {
	*Machine
	build   string           // what they see of the job's files
	as      *process.Account // the host user they run as
	limits  definition.Numbers
	group   *group         // their processes; nil where there are no control groups
	network *netns.Network // theirs; nil where none is wanted
	from    *Networks      // where that is from; nil when it was made for them
	lent    string         // a folder of the host that they read; "" for none
	launch  launchers
	top     atomic.Int64 // the process of the step at work; 0 when none is
}

// Box is one whose steps see the files of build, which are an account's, and are bounded.
func (m *Machine) Box(build string, as *process.Account, limits definition.Numbers) *Box {
	return &Box{Machine: m, build: build, as: as, limits: limits}
}

// Lent is where, below what they see of the job's files, steps find a folder of the host that they are lent.
const Lent = "lent"

// Lend has the steps read a folder of the host. It is lent before Open.
func (b *Box) Lend(dir string) error {
	b.lent = dir
	return os.Mkdir(filepath.Join(b.build, Lent), 0o755)
}

// Open makes what steps are born into: a control group by a name, and, when one is wanted, a network, from nets or,
// when that is nil, made now.
func (b *Box) Open(ctx context.Context, name string, wantsNetwork bool, nets *Networks) error {
	if err := b.openGroup(name); err != nil {
		return err
	}
	if wantsNetwork && b.Network != NetworkHost && b.Isolation != None {
		var err error
		if b.from = nets; nets != nil {
			b.network, err = nets.take(ctx)
		} else {
			b.network, err = b.nets.Make(ctx)
		}
		if err != nil {
			return err
		}
	}
	return b.openLaunchers()
}

// Close ends what Open has made.
func (b *Box) Close() {
	b.closeLaunchers()
	switch {
	case b.network == nil:
	case b.from != nil:
		b.from.end(b.network)
	default:
		b.network.Close()
	}
	b.network = nil
	b.group.close()
}

// Spec is a step ready to run.
type Spec struct {
	Dir      string   // below the workspace
	Command  []string // what runs the script, but for its path
	Script   string   // file on the host
	Own      []string // instead of both: arguments for this program itself
	Secrets  string   // folder of secret files on the host, where they must be there; or ""
	Network  string   // outside, host or none
	Env      map[string]string
	Terminal bool                     // it has the terminal
	View     func(part string) string // where sources, home and temporary files of its own are; nil: those of the job

	stdin *os.File
	files []secretFile
	undo  []func() error
}

// secretFile is a file that is in a step's sandbox only, and on no disk.
type secretFile struct {
	name string
	text []byte
}

// command is what runs where there is no sandbox.
func (s *Spec) command() ([]string, error) {
	if len(s.Own) == 0 {
		return append(slices.Clone(s.Command), s.Script), nil
	}
	own, err := os.Executable()
	return append([]string{own}, s.Own...), err
}

// source is where it finds the sources, without a sandbox.
func (s *Spec) source(build string) string {
	if s.View != nil {
		return s.View("src")
	}
	return filepath.Join(build, "src")
}

// Undo has something done when the step has ended.
func (s *Spec) Undo(do func() error) { s.undo = append(s.undo, do) }

// CleanUp does it.
func (s *Spec) CleanUp() (err error) {
	for _, undo := range s.undo {
		err = errors.Join(err, undo())
	}
	return err
}

// Run runs a step and has what it prints read; code is -1 when it has none. When ctx ends first, the step is asked to
// end, then killed, with everything it started.
func (b *Box) Run(ctx context.Context, s *Spec, read func(io.Reader)) (code int, err error) {
	cmd, err := b.command(s)
	if err != nil {
		return -1, err
	}
	reader, writer, err := os.Pipe()
	if err != nil {
		return -1, err
	}
	cmd.Stdout, cmd.Stderr = writer, writer
	if s.stdin != nil {
		cmd.Stdin = s.stdin
	}
	if err := b.start(cmd, s.Network == "outside"); err != nil {
		reader.Close()
		writer.Close()
		return -1, fmt.Errorf("starting the step: %w", err)
	}
	writer.Close()
	b.top.Store(int64(cmd.Process.Pid))
	defer b.top.Store(0)
	copied := make(chan struct{})
	go func() {
		defer close(copied)
		read(reader)
	}()
	code, err = await(ctx, cmd)
	select {
	case <-copied:
	case <-time.After(Grace): // without isolation a process that fled its group can hold the pipe open
	}
	reader.Close()
	<-copied
	return code, err
}

// Converse runs this program itself as a step, and talks with it: what it prints is read, what it reads is written.
func (b *Box) Converse(ctx context.Context, s *Spec, talk func(from io.Reader, to io.Writer)) (code int, err error) {
	hears, says, err := os.Pipe()
	if err != nil {
		return -1, err
	}
	defer hears.Close()
	s.stdin = hears
	return b.Run(ctx, s, func(from io.Reader) {
		talk(from, says)
		says.Close() // or it would wait for an answer, and this for its end
		_, _ = io.Copy(io.Discard, from)
	})
}

// await waits for a step, or ends it.
func await(ctx context.Context, cmd *exec.Cmd) (code int, err error) {
	ended := make(chan struct{})
	go func() {
		err = cmd.Wait()
		close(ended)
	}()
	stopped := false
	select {
	case <-ended:
	case <-ctx.Done():
		stopped = true
		process.AskToEnd(cmd)
		select {
		case <-ended:
		case <-time.After(Grace):
		}
	}
	process.Kill(cmd)
	<-ended
	if stopped {
		return -1, context.Cause(ctx)
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return process.ExitCode(exit), nil
	}
	return 0, err
}

// Interact runs a step that has this process's terminal, until it ends. Its exit code says nothing: a shell's is its
// last command's.
func (b *Box) Interact(s *Spec) error {
	s.Terminal = true
	cmd, err := b.command(s)
	if err != nil {
		return err
	}
	cmd.SysProcAttr = nil // the terminal's own group, so that it may read from it
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := b.start(cmd, s.Network == "outside"); err != nil {
		return err
	}
	_ = cmd.Wait()
	return nil
}

// secretFolder writes a secret into the folder of the host that is gone after the step, and tells where it is.
func (s *Spec) secretFolder(name string, value []byte) (string, error) {
	at := filepath.Join(s.Secrets, name)
	return at, os.WriteFile(at, value, 0o600)
}
