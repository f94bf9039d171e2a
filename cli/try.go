package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/reach"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/try"
)

func tryCommand() *cli.Command {
	return &cli.Command{
		Name:      "try",
		Usage:     "run a pipeline on this machine, with the changes that are not committed yet",
		ArgsUsage: "[PIPELINE] [TAG]",
		Description: "Runs what Git tracks of the work tree, with its changes, in the same sandbox, with the same caches, " +
			"masking and report as\n" +
			"the service, without server or database. Files that Git does not track stay out, as a push would be without " +
			"them;\n" +
			"--untracked takes them. Without PIPELINE, the one that a push of this branch starts. --as tag TAG tries a tag " +
			"before it is\n" +
			"pushed, and --as proposal what one from outside would come to.\n" +
			"Who is signed in and may start runs of the project has what these have saved, read only: caches are restored,\n" +
			"and steps whose inputs are the same are not run again; --offline asks nobody.\n" +
			"Secrets come from environment variables of their names, from piston local-secret, or are asked for.\n\n" +
			"What a job leaves behind stays until the next time: --shell opens a shell in it, --from goes on in it.\n" +
			"Exit code 0 when the run passed, 1 when it did not.\n\n" +
			terminal.Example("piston try", "piston try trunk --job core", "piston try trunk --job core --from 'unit tests'",
				"piston try trunk --job core --shell", "piston try release --as tag v1.2.0"),
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "job", Usage: "only this job; what it takes from others is what they handed on the last time"},
			&cli.StringFlag{Name: "from", Usage: "begin at this step, in the workspace of the last time"},
			&cli.BoolFlag{Name: "shell", Usage: "open a shell where the job's last trial ended, with that step's environment"},
			&cli.StringSliceFlag{Name: "input", Usage: "an input as NAME=VALUE; may be repeated"},
			&cli.StringFlag{Name: "as",
				Usage: "trigger that conditions are told: push, tag, proposal, schedule, pipeline or person", Value: "push"},
			&cli.StringFlag{Name: "isolation", Usage: "how steps are kept apart: bubblewrap or none",
				Value: string(try.DefaultIsolation())},
			&cli.IntFlag{Name: "slots", Usage: "jobs at a time", Value: 2},
			untrackedFlag,
			&cli.BoolFlag{Name: "offline",
				Usage: "do not ask the service for what its runs have saved: caches, and what steps have made"},
			&cli.StringSliceFlag{Name: "let-through",
				Usage: "what of this machine or its networks steps may reach all the same, such as localhost:8080; may be " +
					"repeated",
				Sources: cli.EnvVars("PISTON_RUNNER_LET_THROUGH")},
			&cli.BoolFlag{Name: "anyway", Usage: "try although the check finds errors"},
			terminal.JSONFlag,
		}, purseFlags...),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Words(c, "[PIPELINE]", "[TAG]")
			if err != nil {
				return err
			}
			o, err := trialOptions(ctx, c, args[0], args[1])
			if err != nil {
				return err
			}
			if c.Bool("shell") {
				return refused(try.Shell(ctx, o))
			}
			d, err := try.Run(ctx, o)
			if err != nil {
				return refused(err)
			}
			if c.Bool("json") {
				err = terminal.PrintJSON(terminal.Out(c), d)
			} else {
				s := terminal.NewScreen(terminal.Out(c))
				s.Run(d)
				nextSteps(s, o, d)
			}
			if err == nil && d.State != state.Passed {
				err = terminal.Ending(terminal.ExitFailed, nil)
			}
			return err
		},
	}
}

// refused gives what cannot be tried the exit code of a run that failed: it would have.
func refused(err error) error {
	if errors.Is(err, try.ErrNotPossible) {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	return err
}

func trialOptions(ctx context.Context, c *cli.Command, name, tag string) (try.Options, error) {
	var o try.Options
	if as := plan.Trigger(c.String("as")); (as == plan.OnTag) != (tag != "") {
		return o, terminal.Usage("a tag is tried by its name, and only a tag: piston try %s --as tag v1.2.0",
			cmp.Or(name, "PIPELINE"))
	}
	inputs, err := pairs("--input", c.StringSlice("input"))
	if err != nil {
		return o, err
	}
	w, err := openTree(ctx, ".")
	if err != nil {
		return try.Options{}, err
	}
	done, err := checkTree(w, nil, c.Bool("untracked"))
	if err != nil {
		return o, err
	}
	f, err := chosen(done, name)
	if err != nil {
		return o, err
	}
	s := terminal.NewScreen(os.Stderr)
	for _, found := range f.Findings {
		showFinding(s, found)
		s.Line("")
	}
	if definition.HasErrors(f.Findings) && !c.Bool("anyway") {
		return o, terminal.Ending(terminal.ExitFailed,
			errors.New("the check finds errors, so this would fail; mend them, or give --anyway"))
	}
	secret, err := secretSource(c, done.tree.Dir)
	if err != nil {
		return o, err
	}
	through, err := letThrough(c.StringSlice("let-through"))
	if err != nil {
		return o, err
	}
	shared, note := sharedWith(ctx, c, done.tree)
	if note != "" {
		s.Line("%s", note)
	}
	screen := terminal.NewScreen(terminal.Out(c))
	var printing sync.Mutex // jobs print side by side
	o = try.Options{Tree: done.tree, Reach: reach.Policy{Through: through}, Pipeline: f.Pipeline,
		Untracked: c.Bool("untracked"), Program: netProgram(), Project: filepath.Base(done.tree.Dir), Job: c.String("job"),
		From: c.String("from"), Shared: shared,
		Trigger: plan.Trigger(c.String("as")), Tag: tag, Inputs: inputs, Secret: secret,
		Isolation: sandbox.Isolation(c.String("isolation")), Slots: c.Int("slots"),
		Print: func(b api.LogBatch) {
			printing.Lock()
			defer printing.Unlock()
			if c.Bool("json") {
				_ = terminal.PrintJSON(terminal.Out(c), b)
				return
			}
			screen.LogLines(b)
		}}
	return o, nil
}

// sharedWith is what a trial may have of the service's. note says why it has none although somebody is signed in.
func sharedWith(ctx context.Context, c *cli.Command, w *source.WorkTree) (shared *try.Shared, note string) {
	if c.Bool("offline") {
		return nil, ""
	}
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	cl, err := terminal.Connect()
	if err != nil {
		return nil, "" // nobody is signed in
	}
	project, err := terminal.ProjectOf(ctx, cl, w)
	if errors.Is(err, terminal.ErrNoProject) {
		return nil, ""
	}
	if err != nil {
		return nil, fmt.Sprintf("what runs have saved is not looked at: %v", err)
	}
	return &try.Shared{Client: cl, Project: project}, ""
}

// chosen finds the pipeline a person means: by name, or the one that a push of the branch starts.
func chosen(done checked, name string) (check.File, error) {
	if name != "" {
		return done.pipeline(name)
	}
	var fits []string
	for _, f := range done.result.Files {
		if f.Pipeline != nil && plan.OfBranch(f.Pipeline, done.tree.Branch) {
			fits = append(fits, f.Name)
		}
	}
	if len(fits) == 1 {
		return done.pipeline(fits[0])
	}
	var all []string
	for _, f := range done.result.Files {
		all = append(all, f.Name)
	}
	if len(all) == 1 {
		return done.pipeline(all[0])
	}
	return check.File{}, terminal.Usage("which pipeline? There are: %s", strings.Join(all, ", "))
}

// nextSteps says how to look into a failure.
func nextSteps(s *terminal.Screen, o try.Options, d api.RunDetail) {
	if d.Failure == nil {
		return
	}
	call := fmt.Sprintf("piston try %s --job %s", o.Pipeline.Name, terminal.Quoted(d.Failure.Job))
	s.Line("")
	s.Line("Look around:   %s --shell", call)
	if d.Failure.StepNo >= 0 {
		s.Line("Go on there:   %s --from %s", call, terminal.Quoted(d.Failure.Step))
	}
	if folder, err := try.Workspace(o.Tree.Dir, d.Failure.Job); err == nil {
		s.Line("Its files:     %s", folder)
	}
}

// purseFlags say where trials have their secrets from.
var purseFlags = []cli.Flag{
	&cli.StringFlag{Name: "secrets",
		Usage: "age-encrypted file of secrets; default: this repository's, of piston local-secret"},
	&cli.StringFlag{Name: "identity", Usage: "age identity that opens it; default: this machine's"},
}

// purse opens the secrets of a repository's trials.
func purse(c *cli.Command, tree string) (*try.Purse, error) {
	settings, err := terminal.SettingsPath()
	if err != nil {
		return nil, err
	}
	folder, err := try.Folder(tree)
	if err != nil {
		return nil, err
	}
	file, identity := c.String("secrets"), c.String("identity")
	if file == "" {
		file = filepath.Join(filepath.Dir(settings), "secrets", filepath.Base(folder)+".age")
	}
	if identity == "" {
		identity = filepath.Join(filepath.Dir(settings), "identity.txt")
	}
	return try.OpenPurse(file, identity)
}

// secretSource finds secrets on this machine: in the environment, in the purse, or by asking.
func secretSource(c *cli.Command, tree string) (func(name string) (try.Secret, error), error) {
	p, err := purse(c, tree)
	if err != nil {
		return nil, err
	}
	return func(name string) (try.Secret, error) {
		if text := os.Getenv(name); text != "" {
			return try.Secret{Kind: api.TextSecret, Value: []byte(text)}, nil
		}
		if v, ok := p.Secrets[name]; ok {
			return v, nil
		}
		if term.IsTerminal(int(os.Stdin.Fd())) && !c.Bool("json") {
			text, err := askSecret("Secret " + name + ", for this trial only: ")
			if err == nil && text == "" {
				err = fmt.Errorf("the secret %s is empty", name)
			}
			return try.Secret{Kind: api.TextSecret, Value: []byte(text)}, err
		}
		return try.Secret{}, fmt.Errorf("the secret %s is not on this machine: piston local-secret set %s, or set the "+
			"environment variable %s", name, name, name)
	}, nil
}
