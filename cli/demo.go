package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/demo"
	"gentlepiston.example/piston/host"
	"gentlepiston.example/piston/local"
	"gentlepiston.example/piston/service/people"
)

func demoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "run a service of its own and play a working day of Tidewick, a made-up app",
		Description: "Starts everything on loopback, makes a repository, pushes to it and shows what comes of it; then it " +
			"goes on\n" +
			"serving, so that you can look around. Started again it continues with the same data. With --once it ends\n" +
			"after the story, in a new folder unless --home names one, and fails unless every run ended as the story says.\n\n" +
			terminal.Example("piston demo", "piston demo --once --home /tmp/tidewick"),
		Flags: append(hostFlags(filepath.Join(filepath.Dir(host.DefaultHome()), "piston-demo"), "127.0.0.1:7460"),
			&cli.BoolFlag{Name: "once", Usage: "end after the story"},
			&cli.BoolFlag{Name: "hybrid", Value: true, Usage: "then play a second project, a hybrid app with real " +
				"dependencies from npm; not with --once unless asked for"},
			&cli.BoolFlag{Name: "history", Value: true, Usage: "then play a project of some 150 short runs, so that there " +
				"is a history; not with --once unless asked for"}, terminal.JSONFlag),
		Action: playDemo,
	}
}

func playDemo(ctx context.Context, c *cli.Command) error {
	began := time.Now()
	tell := func(format string, args ...any) {
		fmt.Fprintf(os.Stderr, "%6.1f s  %s\n", time.Since(began).Seconds(), fmt.Sprintf(format, args...))
	}
	o, err := hostOptions(c)
	if err != nil {
		return err
	}
	home, err := filepath.Abs(o.Home)
	if err != nil {
		return err
	}
	if c.Bool("once") && !c.IsSet("home") {
		if home, err = os.MkdirTemp("", "piston-demo-"); err != nil {
			return err
		}
		defer local.RemoveFolder(home)
	}
	o.Home = home
	o.Log = newLog(os.Stderr, slog.LevelWarn, c.Bool("verbose")) // the story tells of every job
	binary, err := os.Executable()
	if err != nil {
		return err
	}
	if err := local.ForgetRemoved(home); err != nil {
		return err
	}
	story := &demo.Story{Folder: home, Binary: binary, Tell: tell}
	depot, stop, played, err := story.Prepare()
	if err != nil {
		return err
	}
	defer stop()
	o.Through = append(o.Through, strings.TrimPrefix(depot, "http://")) // it is far away, as the story goes
	mailbox, stopMail, err := demoMail(ctx, &o)
	if err != nil {
		return err
	}
	defer stopMail()
	tell("starting the service in %s", home)
	h, err := host.Start(ctx, o)
	if err != nil {
		return err
	}
	defer h.Stop()
	password, cl, err := demoSignIn(ctx, h, home)
	if err != nil {
		return err
	}
	story.Client = cl
	var outcomes []demo.Outcome
	switch {
	case !played:
		if outcomes, err = story.Play(ctx, depot); err != nil {
			return terminal.Ending(terminal.ExitFailed, err)
		}
	case c.Bool("once"):
		return terminal.Usage("the story has been played in %s already; give --once a new folder, or none", home)
	default:
		tell("the story has been played in this folder already")
	}
	if err := printOutcomes(c, outcomes); err != nil {
		return err
	}
	hybrid := func() error {
		err := story.PlayHybrid(ctx)
		if errors.Is(err, demo.ErrNoNPM) {
			tell("%v", err)
			return nil
		}
		return err
	}
	past := func() error { return story.PlayMarsh(ctx, h.Service.History.SetBack) }
	if c.Bool("once") {
		if c.IsSet("history") && c.Bool("history") {
			if err := past(); err != nil {
				return terminal.Ending(terminal.ExitFailed, err)
			}
		}
		if c.IsSet("hybrid") && c.Bool("hybrid") {
			if err := hybrid(); err != nil {
				return terminal.Ending(terminal.ExitFailed, err)
			}
		}
		for _, o := range outcomes {
			if !o.Ok {
				return terminal.Ending(terminal.ExitFailed, errors.New("not every run ended as the story says"))
			}
		}
		return nil
	}
	sayWelcome(c, h.Address, password, mailbox, story, filepath.Join(home, "client.json"), binary)
	if !played && c.Bool("history") {
		if err := past(); err != nil && ctx.Err() == nil {
			tell("%v", err)
		}
	}
	if !played && c.Bool("hybrid") {
		if err := hybrid(); err != nil && ctx.Err() == nil {
			tell("%v", err)
		}
	}
	select {
	case <-ctx.Done():
		tell("stopping")
		return nil
	case err := <-h.Failed:
		return err
	}
}

// demoSignIn keeps the demo's password and token in its folder, so that a second start can tell them again. A real
// service never does that.
func demoSignIn(ctx context.Context, h *host.Host, home string) (password string, cl *client.Client, err error) {
	passwordFile, settingsFile := filepath.Join(home, "console-password"), filepath.Join(home, "client.json")
	if h.FirstPassword != "" {
		if err := os.WriteFile(passwordFile, []byte(h.FirstPassword+"\n"), 0o600); err != nil {
			return "", nil, err
		}
		if err := os.Remove(settingsFile); err != nil && !errors.Is(err, os.ErrNotExist) {
			return "", nil, err
		}
	}
	text, err := os.ReadFile(passwordFile)
	if err != nil {
		return "", nil, fmt.Errorf("%s is no folder of a demo: %w", home, err)
	}
	password = strings.TrimSpace(string(text))
	cl = client.New(h.Address, "")
	issued, err := cl.SignIn(ctx, api.Credentials{Name: people.Administrator, Password: password},
		"demo "+rand.Text()[:6])
	if err != nil {
		return "", nil, err
	}
	cl = client.New(h.Address, issued.Secret)
	return password, cl, terminal.SaveSettings(settingsFile, terminal.Settings{Server: h.Address, Token: issued.Secret})
}

func printOutcomes(c *cli.Command, outcomes []demo.Outcome) error {
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), outcomes)
	}
	if len(outcomes) == 0 {
		return nil
	}
	s := terminal.NewScreen(terminal.Out(c))
	var rows [][]string
	for _, o := range outcomes {
		verdict := s.In(terminal.Green, "as told")
		if !o.Ok {
			verdict = s.In(terminal.Red, "NOT as told: "+terminal.Short(o.Why, 80))
		}
		rows = append(rows, []string{fmt.Sprint(o.Run.Number), o.What, o.Run.Pipeline, s.State(o.Run.State),
			terminal.Took(o.Run),
			terminal.Built(o.Run),
			o.Cache, reusedOf(o), o.Tests, strings.Join(o.Files, " "), verdict})
	}
	s.Line("")
	s.Table([]string{"RUN", "PUSH", "PIPELINE", "STATE", "TOOK", "BUILD", "CACHE", "REUSED", "TESTS",
		"ARTIFACTS", ""}, rows)
	var steps int
	var saved int64
	for _, o := range outcomes {
		steps, saved = steps+o.Reused, saved+o.Saved
	}
	s.Line("%d steps were reused, which saved %s of work.", steps, quantity.Span(time.Duration(saved)*time.Millisecond))
	return nil
}

// reusedOf tells of the steps of a run that were not run again.
func reusedOf(o demo.Outcome) string {
	if o.Reused == 0 {
		return ""
	}
	return fmt.Sprintf("%s, %s", plural(o.Reused, "step"), quantity.Span(time.Duration(o.Saved)*time.Millisecond))
}

func sayWelcome(c *cli.Command, address, password, mailbox string, story *demo.Story, settingsFile, binary string) {
	if c.Bool("json") {
		return
	}
	quayside, lantern := story.Shops()
	fmt.Fprintf(terminal.Out(c), `
The console is at  %s
  sign in as       admin
  with password    %s
Letters end at     %s (a stand-in mailbox)
Releases end at    %s and %s (stand-ins of stores)

Three commands to try in another terminal:
  export PISTON_CONFIG=%s
  %s runs tidewick
  %s show tidewick 3
  %s start tidewick trunk && %s watch tidewick

Ctrl-C stops everything.
`, address, password, mailbox, quayside, lantern, settingsFile, binary, binary, binary, binary)
}
