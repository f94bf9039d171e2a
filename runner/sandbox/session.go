package sandbox

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/creack/pty"

	"gentlepiston.example/piston/core/talk"
	"gentlepiston.example/piston/runner/process"
)

// Session is a step that somebody talks with: at a terminal of its own, or by pipes.
type Session struct {
	cmd      *exec.Cmd
	in, out  *os.File // the same for a terminal
	terminal bool
	ended    chan struct{}
	code     int
}

// Talk starts one: at a terminal of a size, or, where that is nil, by pipes.
func (b *Box) Talk(s *Spec, size *talk.Size) (*Session, error) {
	s.Terminal = size != nil
	cmd, err := b.command(s)
	if err != nil {
		return nil, err
	}
	t := &Session{cmd: cmd, terminal: s.Terminal, ended: make(chan struct{})}
	theirs, err := b.connect(t, size)
	if err == nil {
		err = b.start(cmd, s.Network == "outside")
	}
	for _, f := range theirs {
		f.Close()
	}
	if err != nil {
		t.Close()
		return nil, fmt.Errorf("starting it: %w", err)
	}
	b.top.Store(int64(cmd.Process.Pid))
	go func() {
		defer close(t.ended)
		_ = cmd.Wait() // how it ended is in its state
		t.code = cmd.ProcessState.ExitCode()
		if t.code < 0 {
			t.code = process.ExitCode(&exec.ExitError{ProcessState: cmd.ProcessState})
		}
		process.Kill(cmd)
	}()
	return t, nil
}

// connect gives the process its ends of a terminal, or of pipes.
func (b *Box) connect(t *Session, size *talk.Size) (theirs []*os.File, err error) {
	if size == nil {
		stdin, in, err := os.Pipe()
		if err != nil {
			return nil, err
		}
		out, stdout, err := os.Pipe()
		if err != nil {
			stdin.Close()
			in.Close()
			return nil, err
		}
		t.in, t.out = in, out
		t.cmd.Stdin, t.cmd.Stdout, t.cmd.Stderr = stdin, stdout, stdout
		return []*os.File{stdin, stdout}, nil
	}
	ours, tty, err := pty.Open()
	if err != nil {
		return nil, err
	}
	t.in, t.out = ours, ours
	t.cmd.Stdin, t.cmd.Stdout, t.cmd.Stderr = tty, tty, tty
	// A session of its own, of which this is the terminal: what it does to its terminal it does to this one.
	t.cmd.SysProcAttr.Setpgid = false
	t.cmd.SysProcAttr.Setsid, t.cmd.SysProcAttr.Setctty = true, true
	return []*os.File{tty}, errors.Join(b.as.TakeOpen(tty), t.Resize(*size))
}

// Read reads what it prints; an error when it has ended.
func (t *Session) Read(p []byte) (int, error) { return t.out.Read(p) }

// Write writes what it reads.
func (t *Session) Write(p []byte) (int, error) { return t.in.Write(p) }

// EndInput tells it that nothing more comes; at a terminal as people do (termios(3), VEOF).
func (t *Session) EndInput() error {
	if t.terminal {
		_, err := t.in.Write([]byte{4})
		return err
	}
	return t.in.Close()
}

// Resize makes its terminal of another size.
func (t *Session) Resize(size talk.Size) error {
	if !t.terminal {
		return nil
	}
	return pty.Setsize(t.in, &pty.Winsize{Rows: uint16(size.Rows), Cols: uint16(size.Cols)})
}

// Wait waits for its end, or until ctx ends: then it is asked to end, and killed. It gives its exit code.
func (t *Session) Wait(ctx context.Context) int {
	select {
	case <-t.ended:
	case <-ctx.Done():
		if t.terminal {
			t.Close() // a shell that reads from a terminal hears of nothing else (termios(3), hangup)
		}
		process.AskToEnd(t.cmd)
		select {
		case <-t.ended:
		case <-time.After(Grace):
		}
		process.Kill(t.cmd)
		<-t.ended
	}
	return t.code
}

// Close lets go of its terminal or pipes. What reads from it then ends.
func (t *Session) Close() {
	for _, f := range []*os.File{t.in, t.out} {
		if f != nil {
			f.Close()
		}
	}
}
