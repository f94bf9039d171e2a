package runner

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"sync"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/core/talk"
	"gentlepiston.example/piston/runner/beside"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/runner/workspace"
)

const (
	// shellBeat is how often a shell's connection says that it is there.
	shellBeat = 10 * time.Second
	// shellIdle is how long a shell may be left with nothing typed and nothing printed.
	shellIdle = api.ShellIdleMinutes * time.Minute
	// settles is how long is waited for the rest of what may be a secret before it is shown.
	settles = 40 * time.Millisecond
)

// visit meets whoever has asked for a shell, and does what they want, until they leave.
func (v *visits) visit(life context.Context, wanted api.ShellWanted) error {
	ctx, cancel := context.WithCancelCause(life)
	defer cancel(nil)
	conn, err := v.Client.ServeShell(ctx, v.attempt.ID(), wanted.ID)
	if err != nil {
		return err
	}
	defer conn.Close()
	c := &visitor{Talk: conn, ctx: ctx, leave: cancel, alive: make(chan struct{}, 1)}
	c.more.L = &c.mu
	defer beside.Do(ctx, c.beat)()
	heard := make(chan struct{})
	defer beside.Do(ctx, func(ctx context.Context) { defer close(heard); c.hear(ctx) })()
	var ended talk.Ending
	if wanted.Kind == api.ShellFiles {
		ended = v.takeOut(c, wanted)
	} else {
		ended = v.shell(c, wanted)
	}
	if cause := context.Cause(ctx); cause != nil && ended.Why == "" && ended.Code == nil {
		ended.Why = cause.Error()
	}
	ended.Why = v.attempt.Hide(ended.Why)
	telling, done := context.WithTimeout(context.WithoutCancel(ctx), goneWithin)
	defer done()
	if err = c.Write(telling, talk.OfEnding(ended)); err == nil {
		select { // the service ends it, when it has taken that
		case <-heard:
		case <-telling.Done():
		}
	}
	return err
}

// visitor is the connection to whoever uses a shell.
type visitor struct {
	*client.Talk
	ctx   context.Context
	leave context.CancelCauseFunc
	alive chan struct{} // something was typed or printed

	mu    sync.Mutex
	more  sync.Cond
	typed []byte // and not read yet
	ended bool   // nothing more is typed
	sized func(talk.Size)
}

// errLeft says that whoever used a shell is gone.
var errLeft = errors.New("they have left")

// beat says that this side is there, and ends what is left alone.
func (c *visitor) beat(ctx context.Context) {
	tick := time.NewTicker(shellBeat)
	defer tick.Stop()
	idle := time.NewTimer(shellIdle)
	defer idle.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.alive:
			idle.Reset(shellIdle)
		case <-idle.C:
			c.leave(fmt.Errorf("nothing was typed or printed for %d minutes", api.ShellIdleMinutes))
			return
		case <-tick.C:
			if c.Write(ctx, talk.Of(talk.Beat, nil)) != nil {
				c.leave(errLeft)
				return
			}
		}
	}
}

func (c *visitor) isAlive() {
	select {
	case c.alive <- struct{}{}:
	default:
	}
}

// hear takes what is typed. It is bounded by what the service lets through before it is read.
func (c *visitor) hear(ctx context.Context) {
	defer c.noMore()
	for {
		kind, body, err := c.Read(ctx)
		if err != nil {
			c.leave(errLeft)
			return
		}
		switch kind {
		case talk.Over:
			c.leave(leftFor(talk.EndingOf(body).Why))
			return
		case talk.Data:
			c.isAlive()
			c.mu.Lock()
			c.typed = append(c.typed, body...)
			c.more.Signal()
			c.mu.Unlock()
		case talk.End:
			c.noMore()
		case talk.Resize:
			c.mu.Lock()
			sized := c.sized
			c.mu.Unlock()
			if sized != nil {
				sized(talk.SizeOf(body))
			}
		}
	}
}

// leftFor is why whoever used a shell is gone.
func leftFor(why string) error {
	if why == "" {
		return errLeft
	}
	return errors.New(why)
}

func (c *visitor) noMore() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ended = true
	c.more.Broadcast()
}

// next waits for what is typed; nil when nothing more is.
func (c *visitor) next() []byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	for len(c.typed) == 0 && !c.ended {
		c.more.Wait()
	}
	text := c.typed
	c.typed = nil
	return text
}

// show sends what is printed.
func (c *visitor) show(text []byte) error {
	for len(text) > 0 {
		n := min(len(text), talk.MaxData)
		if err := c.Write(c.ctx, talk.Of(talk.Data, text[:n])); err != nil {
			return err
		}
		text = text[n:]
	}
	c.isAlive()
	return nil
}

// shell runs a shell, or a command, as the step would that the job ended with.
func (v *visits) shell(c *visitor, wanted api.ShellWanted) talk.Ending {
	granted, err := v.granted(wanted)
	if err != nil {
		return talk.Ending{Why: err.Error()}
	}
	spec, err := v.asTheStep(wanted, granted)
	if err != nil {
		return talk.Ending{Why: err.Error()}
	}
	defer func() {
		if err := spec.CleanUp(); err != nil {
			v.attempt.Log.Warn("what a shell was given could not be taken away", "error", err)
		}
	}()
	var size *talk.Size
	if wanted.Terminal {
		size = &talk.Size{Cols: wanted.Cols, Rows: wanted.Rows}
	}
	session, err := v.box.Talk(spec, size)
	if err != nil {
		return talk.Ending{Why: err.Error()}
	}
	c.mu.Lock()
	c.sized = func(to talk.Size) {
		if session.Resize(to) == nil && wanted.Terminal {
			_ = c.Write(c.ctx, talk.OfSize(to)) // for the recording
		}
	}
	c.mu.Unlock()
	printed, written := make(chan struct{}), make(chan struct{})
	go func() { defer close(printed); v.print(c, session) }()
	go func() { defer close(written); c.typeInto(session) }()
	code := session.Wait(c.ctx)
	left := c.ctx.Err() != nil
	if !left {
		select { // what it has printed last; without isolation somebody else may hold its pipe
		case <-printed:
		case <-c.ctx.Done():
		case <-time.After(sandbox.Grace):
		}
	}
	c.noMore()
	session.Close()
	<-printed
	<-written
	if left {
		return talk.Ending{}
	}
	return talk.Ending{Code: &code}
}

// print shows what a session prints, without the job's secrets. What may be the beginning of one is held back for a
// moment only: whoever types wants to see it.
func (v *visits) print(c *visitor, session *sandbox.Session) {
	pieces := make(chan []byte)
	go func() {
		defer close(pieces)
		for {
			piece := make([]byte, talk.MaxData)
			n, err := session.Read(piece)
			if n > 0 {
				pieces <- piece[:n]
			}
			if err != nil {
				return
			}
		}
	}()
	hiding := v.files.Hiding
	gone := false
	hidden := hiding.Masker().Writer(func(p []byte) { gone = gone || c.show(p) != nil })
	for {
		select {
		case piece, open := <-pieces:
			if !open {
				hidden.Flush()
				return
			}
			if hiding.Look(func(string, ...any) {}) {
				hidden.Use(hiding.Masker())
			}
			_, _ = hidden.Write(piece)
		case <-time.After(settles):
			hidden.Flush()
		}
	}
}

// typeInto gives a session what is typed, and says how much of it was taken.
func (c *visitor) typeInto(session *sandbox.Session) {
	for text := c.next(); len(text) > 0; text = c.next() {
		for len(text) > 0 {
			n := min(len(text), talk.MaxData)
			if _, err := session.Write(text[:n]); err != nil {
				return
			}
			if c.Write(c.ctx, talk.OfTaken(n)) != nil {
				return
			}
			text = text[n:]
		}
	}
	if c.ctx.Err() == nil {
		_ = session.EndInput() // it may have ended
	}
}

// aPrompt is what a shell shows before it reads.
const aPrompt = `\w \$ `

// asTheStep is a shell, or a command, as the step that the job ended with was run: in the same sandbox, folder and
// environment. Of its secrets it has those that were granted.
func (v *visits) asTheStep(wanted api.ShellWanted, granted api.SealedSecrets) (*sandbox.Spec, error) {
	step := *v.attempt.Work.Job.Step[v.at]
	step.Shell, step.Secrets, step.SecretFiles = "", wanted.Wants, nil
	carrying := v.carrying()
	carrying.Secrets, carrying.Kinds = granted, wanted.SecretKinds
	text := aShell
	if wanted.Command != "" {
		text = "set +e\n" + wanted.Command + "\n"
	}
	step.Env = maps.Clone(step.Env)
	if step.Env == nil {
		step.Env = map[string]string{}
	}
	if !wanted.Terminal && wanted.Command == "" {
		text = aReader
	}
	if wanted.Terminal {
		step.Env["TERM"], step.Env["PS1"] = "xterm-256color", aPrompt
	}
	return carrying.Prepare(shellNumber+int(wanted.ID), &step, text)
}

// shellNumber is added to a shell's, so that what it is given is told from what steps are.
const shellNumber = 1_000_000

// granted unseals the secrets that a shell was granted. They are hidden from then on: each may be another than when the
// job began. What hides them remembers them as long as the workspace stays.
func (v *visits) granted(wanted api.ShellWanted) (api.SealedSecrets, error) {
	given := api.SealedSecrets{}
	if len(wanted.Secrets) == 0 {
		return given, nil
	}
	r, err := age.Decrypt(bytes.NewReader(wanted.Secrets), v.identity)
	if err != nil {
		return nil, fmt.Errorf("the shell's secrets are not sealed to this runner: %w", err)
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(text, &given); err != nil {
		return nil, err
	}
	values := make([]mask.Value, 0, len(given))
	for name, value := range given {
		values = append(values, mask.Value{Name: name, Text: value})
	}
	v.files.Hiding.Also(values)
	return given, nil
}

// takeOut sends files of the workspace, packed. None that holds a secret of the job leaves.
func (v *visits) takeOut(c *visitor, wanted api.ShellWanted) talk.Ending {
	most := workspace.Bound{What: "what is taken out at a time", Most: workspace.MostTaken}
	err := v.files.Send(c.ctx, most, []string{wanted.Path}, func(packed io.Reader) error {
		piece := make([]byte, talk.MaxData)
		for {
			n, err := io.ReadFull(packed, piece)
			if showErr := c.show(piece[:n]); showErr != nil {
				return showErr
			}
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return nil
			}
			if err != nil {
				return err
			}
		}
	})
	if err != nil {
		return talk.Ending{Why: err.Error()}
	}
	code := 0
	return talk.Ending{Code: &code}
}
