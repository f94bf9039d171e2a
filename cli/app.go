// Package cli is the command line. Each file is one command, or a few that belong together.
//
// Exit codes: 0 all is well; 1 the run failed or the check found errors; 2 the command line is wrong; 3 the service
// refused or cannot be reached; 4 the check found warnings only.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/client"
)

// The exit codes.
const (
	exitFailed = 1
	exitUsage  = 2
	exitRefuse = 3
)

// coded is an error with an exit code. An empty message prints nothing: the command has said it all.
type coded struct {
	code int
	err  error
}

func (c coded) Error() string {
	if c.err == nil {
		return ""
	}
	return c.err.Error()
}

func (c coded) Unwrap() error { return c.err }

func usage(format string, args ...any) error { return coded{exitUsage, fmt.Errorf(format, args...)} }

// Main runs the program and returns its exit code.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	// Commands live for a moment and hold little: collecting less often is faster. A server sets its own.
	debug.SetGCPercent(400)
	err := App().Run(ctx, args)
	if err != nil && err.Error() != "" {
		fmt.Fprintln(os.Stderr, "piston: "+err.Error())
	}
	return codeOf(err)
}

// codeOf is the exit code of what a command came to.
func codeOf(err error) int {
	var c coded
	switch {
	case err == nil:
		return 0
	case errors.As(err, &c):
		return c.code
	}
	return exitRefuse
}

// App is the command tree.
func App() *cli.Command {
	app := &cli.Command{
		Name:  "piston",
		Usage: "build pipelines for mobile apps: compile, test, version, package and sign on every push",
		Description: "Start with piston demo to see it at work, or piston serve to use it. Every command has --help with\n" +
			"an example, and those that answer something have --json.\n\n" +
			"Exit codes: 0 all is well; 1 the run failed or the check found errors; 2 the command line is wrong;\n" +
			"3 the service refused or cannot be reached; 4 the check found warnings only.",
		Suggest: true,
		Version: version(),
		Commands: []*cli.Command{
			serveCommand(), demoCommand(), runnerCommand(),
			checkCommand(), explainCommand(), tryCommand(), localSecretCommand(),
			signInCommand(), signOutCommand(), passwordCommand(), projectsCommand(), projectCommand(),
			runsCommand(), pushesCommand(), showCommand(), sinceCommand(), watchCommand(), logCommand(), getCommand(),
			pipelinesCommand(), startCommand(), stopCommand(), againCommand(), queueCommand(), schedulesCommand(), keptCommand(),
			secretCommand(), masterCommand(), tokenCommand(), runnersCommand(),
			peopleCommand(), personCommand(), groupCommand(), roleCommand(), auditCommand(),
			versionCommand(), hookReportCommand(), runnerNetCommand(), referenceCommand(),
		},
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
	}
	sayUsageOnce(app)
	return app
}

// sayUsageOnce makes what is wrong with a command line an error like others: the parser would print it by itself, too,
// with the whole help before it, and where answers are expected.
func sayUsageOnce(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return coded{exitUsage, fmt.Errorf("%w; %s --help tells more", err, c.FullName())}
	}
	c.CommandNotFound = func(_ context.Context, c *cli.Command, name string) {
		fmt.Fprintf(os.Stderr, "piston: there is no command %q; %s --help lists them\n", name, c.FullName())
		os.Exit(exitUsage)
	}
	for _, sub := range c.Commands {
		sayUsageOnce(sub)
	}
}

var jsonFlag = &cli.BoolFlag{Name: "json", Usage: "answer in JSON, for programs"}

// example is how a command's help shows one.
func example(lines ...string) string {
	return "Example:\n\n    " + strings.Join(lines, "\n    ")
}

// out is where answers go.
func out(c *cli.Command) io.Writer {
	if c.Root().Writer != nil {
		return c.Root().Writer
	}
	return os.Stdout
}

// words takes a command's arguments by name; the last may be optional, written in brackets.
func words(c *cli.Command, names ...string) ([]string, error) {
	got := c.Args().Slice()
	need := 0
	for _, n := range names {
		if !strings.HasPrefix(n, "[") {
			need++
		}
	}
	if len(got) < need || len(got) > len(names) {
		takes := strings.Join(names, " ")
		if takes == "" {
			takes = fmt.Sprintf("no arguments, not %q", strings.Join(got, " "))
		}
		return nil, usage("%s takes %s; %s --help shows an example", c.FullName(), takes, c.FullName())
	}
	for len(got) < len(names) {
		got = append(got, "")
	}
	return got, nil
}

// connect makes a client from the flags, the environment or what sign-in has kept.
func connect() (*client.Client, error) {
	s, err := loadSettings()
	if err != nil {
		return nil, err
	}
	if v := os.Getenv("PISTON_SERVER"); v != "" {
		s.Server = v
	}
	if v := os.Getenv("PISTON_TOKEN"); v != "" {
		s.Token = v
	}
	if s.Server == "" || s.Token == "" {
		return nil, coded{exitRefuse,
			errors.New("you are not signed in: run piston sign-in, or set PISTON_SERVER and PISTON_TOKEN")}
	}
	return client.New(s.Server, s.Token), nil
}

// asking makes an action of what needs arguments and the service.
func asking(do func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error,
	names ...string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := words(c, names...)
		if err != nil {
			return err
		}
		cl, err := connect()
		if err != nil {
			return err
		}
		return do(ctx, c, cl, args)
	}
}

// aboutRun makes an action of what is about one run of a project: its first two arguments, and maybe a third.
func aboutRun(do func(ctx context.Context, c *cli.Command, cl *client.Client, project string, n int64,
	third string) error, names ...string) cli.ActionFunc {
	return asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
		n, err := theRun(ctx, cl, args[0], args[1])
		if err != nil {
			return err
		}
		return do(ctx, c, cl, args[0], n, append(args, "")[2])
	}, names...)
}
