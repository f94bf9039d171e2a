package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/hook"
	"gentlepiston.example/piston/source"
)

func projectsCommand() *cli.Command {
	return &cli.Command{
		Name:        "projects",
		Usage:       "list projects with their latest run",
		Description: terminal.Example("piston projects"),
		Flags:       terminal.PageFlags,
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			list, err := cl.Projects(ctx, terminal.PageOf(c))
			return terminal.ListedPage(c, list, err, []string{"PROJECT", "LATEST", "RUN", "WHEN", "OF", "REMOTE"},
				func(s *terminal.Screen, p api.Project) []string {
					row := []string{s.In(terminal.Strong, p.Name), "", "", "", ""}
					if r := p.Latest; r != nil {
						row = []string{s.In(terminal.Strong, p.Name), s.State(r.State), fmt.Sprintf("run %d", r.Number),
							terminal.Ago(r.Queued), terminal.Where(*r)}
					}
					note := s.In(terminal.Faint, p.Remote)
					switch {
					case p.Held != "":
						note = s.In(terminal.Yellow, "held: "+terminal.Short(p.Held, 60))
					case p.Trouble != "":
						note = s.In(terminal.Red, terminal.Short(p.Trouble, 90))
					}
					return append(row, note)
				}, "No projects yet: piston project add NAME REPOSITORY registers one.",
				func(p api.Project) string { return p.Name })
		}),
	}
}

func projectCommand() *cli.Command {
	return &cli.Command{
		Name:  "project",
		Usage: "register a repository, connect its pushes, hold its jobs, lend its source",
		Commands: append([]*cli.Command{
			{
				Name:  "add",
				Usage: "register a repository",
				Description: "REPOSITORY is a folder on the service's machine or an https address. In a bare repository on this " +
					"machine\n" +
					"the hook that reports pushes is installed as well.\n\n" +
					terminal.Example("piston project add tidewick /srv/git/tidewick.git"),
				ArgsUsage: "NAME REPOSITORY",
				Flags:     []cli.Flag{&cli.BoolFlag{Name: "no-hook", Usage: "do not install the hook"}, terminal.JSONFlag},
				Action:    terminal.Asking(addProject, "NAME", "REPOSITORY"),
			},
			{
				Name:  "bot",
				Usage: "say who commits what a project's runs land, and how that is pushed",
				Description: "Without options it shows it. A repository that is read by https can be pushed to by ssh, on the " +
					"same host: the key is\n" +
					"a secret that the pipeline's land names, and --host is a line of ssh-keyscan, compared with what the " +
					"host's owner\n" +
					"publishes.\n\n" +
					terminal.Example("piston project bot tidewick --name 'Tidewick Bot' --email bot@tidewick.example"),
				ArgsUsage: "NAME",
				Flags: []cli.Flag{&cli.StringFlag{Name: "name", Usage: "the author's name; empty for Piston"},
					&cli.StringFlag{Name: "email", Usage: "the author's address; empty for piston@PROJECT.invalid"},
					&cli.StringFlag{Name: "push-to", Usage: "an address by ssh; empty for where the repository is read from"},
					&cli.StringFlag{Name: "host", Usage: "the key of its host: HOST TYPE KEY"}, terminal.JSONFlag},
				Action: terminal.Asking(setBot, "NAME"),
			},
			{
				Name:  "hook",
				Usage: "install the hook that reports pushes in a bare repository on this machine",
				Description: terminal.Example("piston project hook tidewick",
					"piston project hook tidewick --repo /srv/git/copy.git",
					"piston project hook --all"),
				ArgsUsage: "[NAME]",
				Flags: []cli.Flag{&cli.StringFlag{Name: "repo", Usage: "the repository; default: the project's own"},
					&cli.BoolFlag{Name: "all", Usage: "renew the hooks of all projects whose repositories are on this machine"},
					&cli.BoolFlag{Name: "show-key",
						Usage: "print address and signing key instead, for a service that sends Standard Webhooks"}, terminal.JSONFlag},
				Action: terminal.Asking(hookProject, "[NAME]"),
			},
		}, append(holdCommands(), lendCommand(), removeProjectCommand())...),
	}
}

func addProject(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	remote := args[1]
	if !strings.Contains(remote, "://") {
		var err error
		if remote, err = filepath.Abs(remote); err != nil {
			return err
		}
	}
	p, err := cl.AddProject(ctx, api.NewProject{Name: args[0], Remote: remote})
	if err != nil {
		return err
	}
	said := ""
	if source.IsLocal(remote) && !c.Bool("no-hook") {
		if err := installHook(ctx, cl, args[0], remote); err != nil {
			return fmt.Errorf("the project is registered, but its hook is not installed: %w", err)
		}
		said = " Pushes to it are reported from now on."
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), p)
	}
	fmt.Fprintf(terminal.Out(c), "Project %s is registered.%s\n", p.Name, said)
	return nil
}

func hookProject(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	switch {
	case c.Bool("all") && args[0] == "":
		return hookAll(ctx, c, cl)
	case c.Bool("all") || args[0] == "":
		return terminal.Usage("give the NAME of a project, or --all")
	case c.Bool("show-key") && c.String("repo") != "":
		return terminal.Usage("--show-key and --repo do not go together")
	}
	if c.Bool("show-key") {
		key, err := cl.HookKey(ctx, args[0])
		if err != nil || c.Bool("json") {
			return terminal.OrJSON(c, key, err)
		}
		fmt.Fprintf(terminal.Out(c), "Address: %s\nKey:     %s\n", key.Address, key.Key)
		return nil
	}
	repo := c.String("repo")
	if repo == "" {
		p, err := cl.Project(ctx, args[0])
		if err != nil {
			return err
		}
		repo = p.Remote
	}
	repo, err := filepath.Abs(repo)
	if err != nil {
		return err
	}
	if err := installHook(ctx, cl, args[0], repo); err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), map[string]string{"project": args[0], "repository": repo})
	}
	fmt.Fprintf(terminal.Out(c), "The hook is installed in %s.\n", repo)
	return nil
}

// hookAll renews the hook of every project whose repository is on this machine.
func hookAll(ctx context.Context, c *cli.Command, cl *client.Client) error {
	type renewed struct {
		Project    string `json:"project"`
		Repository string `json:"repository"`
		Problem    string `json:"problem,omitempty"`
	}
	list := []renewed{}
	failed := false
	for after := ""; ; {
		page, err := cl.Projects(ctx, api.Page{After: after, Limit: 200})
		if err != nil {
			return err
		}
		if len(page) == 0 {
			break
		}
		for _, p := range page {
			if after = p.Name; !source.IsLocal(p.Remote) {
				continue
			}
			r := renewed{Project: p.Name, Repository: p.Remote}
			if err := installHook(ctx, cl, p.Name, p.Remote); err != nil {
				r.Problem, failed = err.Error(), true
			}
			list = append(list, r)
		}
	}
	err := terminal.Listed(c, list, nil, []string{"PROJECT", "REPOSITORY", "HOOK"}, func(s *terminal.Screen,
		r renewed) []string {
		if r.Problem != "" {
			return []string{r.Project, r.Repository, s.In(terminal.Red, terminal.Short(r.Problem, 120))}
		}
		return []string{r.Project, r.Repository, "renewed"}
	}, "No project's repository is on this machine.")
	if err == nil && failed {
		err = terminal.Ending(terminal.ExitRefuse, nil)
	}
	return err
}

func installHook(ctx context.Context, cl *client.Client, project, repo string) error {
	found, err := source.Open(ctx, repo, "")
	if err != nil {
		return err
	}
	key, err := cl.HookKey(ctx, project)
	if err != nil {
		return err
	}
	binary, err := os.Executable()
	if err != nil {
		return err
	}
	return hook.Install(found.Dir, binary, hook.Settings{Address: key.Address, Key: key.Key})
}

func hookReportCommand() *cli.Command {
	return &cli.Command{
		Name:   "hook-report",
		Usage:  "report a push, as a post-receive hook",
		Hidden: true,
		Flags:  []cli.Flag{&cli.StringFlag{Name: "repo", Required: true}, &cli.BoolFlag{Name: "try"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Bool("try") {
				return hook.Try(c.String("repo"))
			}
			return hook.Report(ctx, c.String("repo"), os.Stdin, os.Stderr)
		},
	}
}

func lendCommand() *cli.Command {
	return &cli.Command{
		Name: "lend", Usage: "let other projects' jobs read this one's source, as a submodule", ArgsUsage: "NAME",
		Description: "Without --to nobody else's may any more.\n\n" +
			terminal.Example("piston project lend charts --to tidewick"),
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "to", Usage: "a project; may be repeated"},
			&cli.BoolFlag{Name: "show", Usage: "only tell how it is"}, terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			var l api.Lendings
			var err error
			if c.Bool("show") {
				l, err = cl.Lendings(ctx, args[0])
			} else {
				l, err = cl.Lend(ctx, args[0], api.Lendings{To: append([]string{}, c.StringSlice("to")...)})
			}
			sentence := fmt.Sprintf("Nobody else's jobs may read the source of %s.", args[0])
			if len(l.To) > 0 {
				sentence = fmt.Sprintf("Jobs of %v may read the source of %s.", l.To, args[0])
			}
			return told(c, l, err, sentence)
		}, "NAME"),
	}
}

func setBot(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	p, err := cl.Project(ctx, args[0])
	if err != nil {
		return err
	}
	was := p.Bot
	for name, to := range map[string]*string{"name": &p.Bot.Name, "email": &p.Bot.Email, "push-to": &p.Bot.PushTo,
		"host": &p.Bot.PushHost} {
		if c.IsSet(name) {
			*to = c.String(name)
		}
	}
	if p.Bot != was {
		p, err = cl.SetBot(ctx, args[0], p.Bot)
	}
	return told(c, p.Bot, err, fmt.Sprintf("%s lands as %s <%s>, pushed to %s.", p.Name,
		cmp.Or(p.Bot.Name, "Piston"), cmp.Or(p.Bot.Email, "piston@"+p.Name+".invalid"), cmp.Or(p.Bot.PushTo, p.Remote)))
}
