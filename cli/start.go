package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
)

func startCommand() *cli.Command {
	return &cli.Command{
		Name:      "start",
		Usage:     "start a pipeline by hand",
		ArgsUsage: "PROJECT PIPELINE [REF]",
		Description: "REF is a branch, tag or commit; default the main branch. On a terminal it asks for the inputs that " +
			"are not given.\n\n" +
			terminal.Example("piston start tidewick trunk work/new-chart", "piston start tidewick testers --input channel=beta"),
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "input", Usage: "an input as NAME=VALUE; may be repeated"},
			&cli.BoolFlag{Name: "fresh", Usage: "restore no cache and reuse no step"},
			&cli.BoolFlag{Name: "audit", Usage: "run steps that could be reused, and compare what they make, byte by byte"},
			terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			given, err := pairs("--input", c.StringSlice("input"))
			if err != nil {
				return err
			}
			if term.IsTerminal(int(os.Stdin.Fd())) && !c.Bool("json") {
				if err := askMissing(ctx, cl, args[0], args[1], args[2], given); err != nil {
					return err
				}
			}
			r, err := cl.StartRun(ctx, args[0], api.StartRun{Pipeline: args[1], Ref: args[2], Inputs: given,
				Fresh: c.Bool("fresh"), Audit: c.Bool("audit")})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, r, err)
			}
			fmt.Fprintf(terminal.Out(c), "Run %d of %s is queued: piston watch %s %d\n", r.Number, r.Project, r.Project,
				r.Number)
			return nil
		}, "PROJECT", "PIPELINE", "[REF]"),
	}
}

// pairs reads NAME=VALUE texts.
func pairs(option string, list []string) (map[string]string, error) {
	m := map[string]string{}
	for _, text := range list {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, terminal.Usage("%s %q: write NAME=VALUE", option, text)
		}
		m[name] = value
	}
	return m, nil
}

// askMissing asks for the inputs of a pipeline that are not given.
func askMissing(ctx context.Context, cl *client.Client, project, pipeline, ref string, given map[string]string) error {
	list, err := cl.Pipelines(ctx, project, ref)
	if err != nil {
		return err
	}
	for _, p := range list.Pipelines {
		if p.Name == pipeline {
			return askInputs(os.Stdin, os.Stderr, p.Inputs, given)
		}
	}
	return nil // the service says what is wrong
}

// askInputs asks for inputs, each until the answer will do; an empty answer takes the default.
func askInputs(from io.Reader, to io.Writer, inputs []*definition.Input, given map[string]string) error {
	lines := bufio.NewScanner(from)
	for _, in := range inputs {
		if _, ok := given[in.Name]; ok {
			continue
		}
		for {
			fmt.Fprintf(to, "%s: ", terminal.Safe(question(in), false))
			if !lines.Scan() {
				return fmt.Errorf("no answer for input %s", in.Name)
			}
			text := strings.TrimSpace(lines.Text())
			if text == "" {
				text = in.DefaultText()
			}
			if _, err := in.Accept(text); err != nil {
				fmt.Fprintln(to, err)
				continue
			}
			given[in.Name] = text
			break
		}
	}
	return nil
}

func question(in *definition.Input) string {
	text := in.Name
	if in.About != "" {
		text += " (" + in.About + ")"
	}
	switch in.Kind {
	case definition.ChoiceInput:
		text += ", one of " + strings.Join(in.Choices, ", ")
	case definition.FlagInput:
		text += ", yes or no"
	case definition.NumberInput:
		text += ", a number"
	}
	if d := in.DefaultText(); d != "" {
		text += " [" + d + "]"
	}
	return text
}

func againCommand() *cli.Command {
	return &cli.Command{
		Name:      "again",
		Usage:     "start a run again",
		ArgsUsage: "PROJECT [RUN]",
		Description: "All of it, as a new run of the same commit with the same inputs. With --failed, in the same run, " +
			"only the jobs that\n" +
			"did not pass; those that did keep their results and artifacts.\n" + terminal.AboutRunHelp + "\n\n" +
			terminal.Example("piston again tidewick 12 --failed"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "failed", Usage: "only what did not pass"}, terminal.JSONFlag},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client,
			project string, n record.RunNumber, _ string) error {
			r, err := cl.Restart(ctx, project, n, api.Restart{Failed: c.Bool("failed")})
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, r, err)
			}
			fmt.Fprintf(terminal.Out(c), "Run %d of %s is queued: piston watch %s %d\n", r.Number, r.Project, r.Project,
				r.Number)
			return nil
		}, "PROJECT", "[RUN]"),
	}
}

func pipelinesCommand() *cli.Command {
	return &cli.Command{
		Name:        "pipelines",
		Usage:       "list a project's pipelines, what starts them and what they ask for",
		ArgsUsage:   "PROJECT [REF]",
		Description: terminal.Example("piston pipelines tidewick"),
		Flags:       []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			list, err := cl.Pipelines(ctx, args[0], args[1])
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, list, err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			if len(list.Pipelines) == 0 {
				s.Line("No pipelines at %s: there is no file piston/*.toml.", list.Ref)
			}
			for _, p := range list.Pipelines {
				s.Line("%s  %s", s.In(terminal.Strong, p.Name), p.About)
				for _, t := range p.Triggers {
					s.Line("   starts on %s", t)
				}
				if len(p.Triggers) == 0 {
					s.Line("   started by hand")
				}
				for _, in := range p.Inputs {
					s.Line("   asks for %s", question(in))
				}
				s.Line("   %s", s.In(terminal.Faint, plural(len(p.Jobs), "job")))
				for _, f := range p.Findings {
					showFinding(s, f)
				}
			}
			return nil
		}, "PROJECT", "[REF]"),
	}
}
