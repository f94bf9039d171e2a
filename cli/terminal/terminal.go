// Package terminal is how every command of the client speaks: which server, project and run are meant, answers for
// people and for programs, exit codes.
package terminal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
)

// The exit codes.
const (
	ExitFailed = 1
	ExitUsage  = 2
	ExitRefuse = 3
)

// Ending is how a command ends that has an exit code of its own. A nil error prints nothing: the command has said it
// all.
func Ending(code int, err error) error { return coded{code, err} }

// coded is an error with an exit code.
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

// Usage is a command line that cannot be meant so.
func Usage(format string, args ...any) error { return Ending(ExitUsage, fmt.Errorf(format, args...)) }

// CodeOf is the exit code of what a command came to.
func CodeOf(err error) int {
	var c coded
	switch {
	case err == nil:
		return 0
	case errors.As(err, &c):
		return c.code
	}
	return ExitRefuse
}

// JSONFlag has a command answer programs.
var JSONFlag = &cli.BoolFlag{Name: "json", Usage: "answer in JSON, for programs"}

// Example is how a command's help shows one.
func Example(lines ...string) string {
	return "Example:\n\n    " + strings.Join(lines, "\n    ")
}

// Out is where answers go.
func Out(c *cli.Command) io.Writer {
	if c.Root().Writer != nil {
		return c.Root().Writer
	}
	return os.Stdout
}

// Words takes a command's arguments by name; the last may be optional, written in brackets.
func Words(c *cli.Command, names ...string) ([]string, error) {
	return fill(c, c.Args().Slice(), names)
}

// fill gives each name its word; "" where it is left out.
func fill(c *cli.Command, got, names []string) ([]string, error) {
	if len(got) < needed(names) || len(got) > len(names) {
		return nil, takes(c, got, names)
	}
	for len(got) < len(names) {
		got = append(got, "")
	}
	return got, nil
}

// needed is how many arguments there must be.
func needed(names []string) (n int) {
	for _, name := range names {
		if !strings.HasPrefix(name, "[") {
			n++
		}
	}
	return n
}

// takes says what arguments a command takes.
func takes(c *cli.Command, got, names []string) error {
	text := strings.Join(names, " ")
	if text == "" {
		text = fmt.Sprintf("no arguments, not %q", strings.Join(got, " "))
	}
	return Usage("%s takes %s; %s --help shows an example", c.FullName(), text, c.FullName())
}

// Connect makes a client from the flags, the environment or what sign-in has kept.
func Connect() (*client.Client, error) {
	s, err := LoadSettings()
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
		return nil, Ending(ExitRefuse,
			errors.New("you are not signed in: run piston sign-in, or set PISTON_SERVER and PISTON_TOKEN"))
	}
	return client.New(s.Server, s.Token), nil
}

// Asking makes an action of what needs arguments and the service.
func Asking(do func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error,
	names ...string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		given := c.Args().Slice()
		if need := needed(names); len(given) > len(names) || len(given) < need-1 ||
			len(given) < need && names[0] != projectName {
			return takes(c, given, names)
		}
		cl, err := Connect()
		if err != nil {
			return err
		}
		given = withProject(ctx, cl, given, names)
		args, err := fill(c, given, names)
		if err != nil {
			return err
		}
		return do(ctx, c, cl, args)
	}
}

// AboutRun makes an action of what is about one run of a project: its first two arguments, and maybe a third.
func AboutRun(do func(ctx context.Context, c *cli.Command, cl *client.Client, project string, n record.RunNumber,
	third string) error, names ...string) cli.ActionFunc {
	return Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
		n, err := theRun(ctx, cl, args[0], args[1])
		if err != nil {
			return err
		}
		return do(ctx, c, cl, args[0], n, append(args, "")[2])
	}, names...)
}
