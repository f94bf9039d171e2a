package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/talk"
	"gentlepiston.example/piston/runner/workspace"
)

// showShells lists shells.
func showShells(s *terminal.Screen, list []api.Shell, limit int) {
	if len(list) == 0 {
		s.Line("Nobody has looked around yet. piston shell opens a shell in a workspace that stays.")
		return
	}
	var rows [][]string
	for _, h := range list {
		what := "a shell"
		switch {
		case h.Kind == api.ShellFiles:
			what = "took out " + h.Path
		case h.Command != "":
			what = h.Command
		}
		rows = append(rows, []string{fmt.Sprint(h.ID), fmt.Sprint(h.Run), h.Job, h.Who,
			terminal.Short(what, 40), terminal.Ago(h.Asked), shellState(h), quantity.Bytes(h.Printed), secretsWord(h)})
	}
	s.Table([]string{"ID", "RUN", "JOB", "WHO", "WHAT", "WHEN", "STATE", "PRINTED", "SECRETS"}, rows)
	if len(list) == limit {
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("More: --before %d", list[len(list)-1].ID)))
	}
}

// shellState tells how a shell stands.
func shellState(h api.Shell) string {
	switch {
	case h.Ended == nil && h.Opened == nil && len(h.Secrets) > 0 && h.Granted == "":
		return "waits for a keeper"
	case h.Ended == nil && h.Opened == nil:
		return "waits for its machine"
	case h.Ended == nil:
		return "open"
	case h.Code != nil:
		return fmt.Sprintf("ended with %d", *h.Code)
	case h.Why != "":
		return h.Why
	}
	return "ended"
}

func secretsWord(h api.Shell) string {
	if len(h.Secrets) == 0 {
		return ""
	}
	if h.Granted == "" {
		return strings.Join(h.Secrets, ", ") + ", not granted"
	}
	return strings.Join(h.Secrets, ", ") + ", granted by " + h.Granted
}

func copyRecording(ctx context.Context, c *cli.Command, cl *client.Client, project string) error {
	r, err := cl.Recording(ctx, project, record.ShellID(c.Int("recording")))
	if err != nil {
		return err
	}
	defer r.Close()
	_, err = io.Copy(terminal.Out(c), r)
	return err
}

func shellCommand() *cli.Command {
	return &cli.Command{
		Name:      "shell",
		Usage:     "open a shell in a workspace that stays, or run a command there",
		ArgsUsage: "PROJECT [RUN]",
		Description: "In the sandbox, folder and environment of the step that failed, without its secrets unless --secret " +
			"asks for\nthem and a keeper grants them. What it shows is recorded, and who opened it is in the audit trail. It " +
			"ends with\nthe stay, or when nothing is typed or printed for 10 minutes. With --command the exit code is the " +
			"command's.\n" + terminal.AboutRunHelp + "\n\n" +
			terminal.Example("piston shell tidewick 12", "piston shell tidewick 12 --job android --command 'ls -l out'",
				"echo 'env | sort' | piston shell tidewick 12"),
		Flags: []cli.Flag{jobFlag, &cli.StringFlag{Name: "command", Aliases: []string{"c"}, Usage: "run this, and no shell"},
			&cli.StringSliceFlag{Name: "secret", Usage: "ask for a secret of the job by name; may be repeated"},
			terminal.JSONFlag},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string,
			n record.RunNumber, _ string) error {
			job, err := whichJob(ctx, c, cl, project, n)
			if err != nil {
				return err
			}
			return visit(ctx, c, cl, project, n, job)
		}, "PROJECT", "[RUN]"),
	}
}

// visited is what came of a shell, for programs.
type visited struct {
	Job    string `json:"job"`
	Output string `json:"output"`
	Code   *int   `json:"exit_code,omitempty"`
	Why    string `json:"why,omitempty"`
}

// mostShown bounds what is printed in JSON, in bytes.
const mostShown = 4 << 20

// visit opens a shell and stays in it until it ends.
func visit(ctx context.Context, c *cli.Command, cl *client.Client, project string, n record.RunNumber,
	job string) (err error) {
	in := api.NewShell{Kind: api.ShellShell, Command: c.String("command"), Secrets: c.StringSlice("secret")}
	stdin, stdout := int(os.Stdin.Fd()), int(os.Stdout.Fd())
	in.Terminal = term.IsTerminal(stdin) && term.IsTerminal(stdout) && !c.Bool("json")
	if in.Terminal {
		in.Cols, in.Rows, _ = term.GetSize(stdout)
	}
	t, err := cl.OpenShell(ctx, project, n, job, in)
	if err != nil {
		return err
	}
	v := client.Visit{In: os.Stdin, Out: terminal.Out(c), Word: sayTo(os.Stderr)}
	if in.Command != "" && !in.Terminal && term.IsTerminal(stdin) {
		v.In = strings.NewReader("") // nobody means the command to wait for what is typed
	}
	shown := &short{most: mostShown}
	if c.Bool("json") {
		v.Out = shown
	}
	if in.Terminal {
		sizes, stop := terminalSizes(stdout)
		defer stop()
		v.Size = sizes
		before, rawErr := term.MakeRaw(stdin)
		if rawErr != nil {
			return rawErr
		}
		defer func() { err = errors.Join(err, term.Restore(stdin, before)) }()
	}
	ended, err := t.Visit(ctx, v)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		out := visited{Job: job, Output: string(shown.text), Code: ended.Code, Why: ended.Why}
		if err := terminal.PrintJSON(terminal.Out(c), out); err != nil {
			return err
		}
	}
	return endingOf(ended, in)
}

// endingOf is how the command ends that a shell has ended.
func endingOf(e talk.Ending, in api.NewShell) error {
	switch {
	case e.Why != "":
		return terminal.Ending(terminal.ExitRefuse, fmt.Errorf("the shell has ended: %s", e.Why))
	case e.Code != nil && *e.Code != 0 && (in.Command != "" || !in.Terminal):
		return terminal.Ending(*e.Code, errors.New(""))
	}
	return nil
}

// sayTo tells what is waited for, each once.
func sayTo(w io.Writer) func(string) {
	return func(word string) {
		if word != "" {
			fmt.Fprintf(w, "%s …\r\n", word)
		}
	}
}

// terminalSizes tells the terminal's size whenever that changes.
func terminalSizes(fd int) (<-chan talk.Size, func()) {
	sizes, changed, ended := make(chan talk.Size), make(chan os.Signal, 1), make(chan struct{})
	signal.Notify(changed, syscall.SIGWINCH)
	go func() {
		for {
			select {
			case <-ended:
				return
			case <-changed:
			}
			if cols, rows, err := term.GetSize(fd); err == nil {
				select {
				case sizes <- talk.Size{Cols: cols, Rows: rows}:
				case <-ended:
					return
				}
			}
		}
	}()
	return sizes, func() { signal.Stop(changed); close(ended) }
}

// short keeps the beginning of what is written.
type short struct {
	text []byte
	most int
}

// Write implements io.Writer.
func (s *short) Write(p []byte) (int, error) {
	s.text = append(s.text, p[:min(len(p), s.most-len(s.text))]...)
	return len(p), nil
}

// takeOut takes files out of a workspace that stays.
func takeOut(ctx context.Context, c *cli.Command, cl *client.Client, project string, n record.RunNumber,
	file string) error {
	job, err := whichJob(ctx, c, cl, project, n)
	if err != nil {
		return err
	}
	if file == "" {
		file = "."
	}
	t, err := cl.OpenShell(ctx, project, n, job, api.NewShell{Kind: api.ShellFiles, Path: file})
	if err != nil {
		return err
	}
	reader, writer := io.Pipe()
	ended := make(chan error, 1)
	go func() {
		e, err := t.Visit(ctx, client.Visit{Out: writer, Word: sayTo(os.Stderr)})
		if err == nil && e.Code == nil {
			err = fmt.Errorf("nothing was taken out: %s", e.Why)
		}
		writer.CloseWithError(err)
		ended <- err
	}()
	files, err := workspace.Unpack(c.String("to"), reader)
	reader.CloseWithError(err)
	if visitErr := <-ended; visitErr != nil && (err == nil || !errors.Is(visitErr, err)) {
		err = visitErr
	}
	if err != nil {
		return terminal.Ending(terminal.ExitRefuse, err)
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), files)
	}
	terminal.NewScreen(terminal.Out(c)).Line("%d files of %s are in %s.", len(files), job, c.String("to"))
	return nil
}
