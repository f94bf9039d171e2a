package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
)

func peopleCommand() *cli.Command {
	return &cli.Command{
		Name: "people", Usage: "list who may sign in", Description: terminal.Example("piston people"),
		Flags: terminal.PageFlags,
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			list, err := cl.People(ctx, terminal.PageOf(c))
			return terminal.ListedPage(c, list, err, []string{"PERSON", "", "GROUPS", "SIGNS IN", "SEEN"},
				func(s *terminal.Screen, p api.Person) []string {
					is := ""
					switch {
					case p.Disabled:
						is = s.In(terminal.Red, "kept out")
					case p.Administrator:
						is = "administrator"
					}
					seen, by := "never", "by password"
					if p.Seen != nil {
						seen = terminal.Ago(*p.Seen)
					}
					if p.Issuer != "" {
						by = "at " + terminal.Short(p.Issuer, 50)
					}
					return []string{s.In(terminal.Strong, p.Name), is, strings.Join(p.Groups, " "), by, seen}
				}, "Nobody yet.", func(p api.Person) string { return p.Name })
		}),
	}
}

func shownOnce(p api.NewPassword) string {
	return fmt.Sprintf("%s signs in with the password\n\n    %s\n\nIt is not shown again.", p.Name, p.Password)
}

func personCommand() *cli.Command {
	change := func(name, usage, sentence string, in func() api.PersonChange) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME",
			Description: terminal.Example("piston person " + name + " ada"), Flags: []cli.Flag{terminal.JSONFlag},
			Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				p, err := cl.ChangePerson(ctx, args[0], in())
				said := fmt.Sprintf(sentence, args[0])
				if len(p.RunnerTokens) > 0 {
					said += fmt.Sprintf(" Runners' tokens that they made still stand: %s; piston token list and revoke end them.",
						strings.Join(p.RunnerTokens, ", "))
				}
				return told(c, p, err, said)
			}, "NAME")}
	}
	yes, no := true, false
	return &cli.Command{
		Name:  "person",
		Usage: "add people, keep them out, make them administrators",
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add somebody; a password is made for them and shown this once", ArgsUsage: "NAME",
				Description: "They see nothing until they, or a group of theirs, are given a role.\n\n" +
					terminal.Example("piston person add ada", "piston role give keeper ada --project tidewick"),
				Flags: []cli.Flag{&cli.BoolFlag{Name: "administrator", Usage: "who may do everything"}, terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					p, err := cl.AddPerson(ctx, api.NewPerson{Name: args[0], Administrator: c.Bool("administrator")})
					return told(c, p, err, shownOnce(p))
				}, "NAME"),
			},
			{
				Name: "password", Usage: "make somebody a new password, shown this once; their sessions end", ArgsUsage: "NAME",
				Description: terminal.Example("piston person password ada"),
				Flags:       []cli.Flag{terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					p, err := cl.ResetPassword(ctx, args[0])
					return told(c, p, err, shownOnce(p))
				}, "NAME"),
			},
			change("keep-out", "let somebody sign in no more, and their tokens do nothing", "%s is kept out.",
				func() api.PersonChange { return api.PersonChange{Disabled: &yes} }),
			change("let-in", "let somebody sign in again", "%s may sign in.",
				func() api.PersonChange { return api.PersonChange{Disabled: &no} }),
			change("promote", "make somebody an administrator", "%s is an administrator.",
				func() api.PersonChange { return api.PersonChange{Administrator: &yes} }),
			change("demote", "make somebody an administrator no more", "%s is no administrator by themselves any more.",
				func() api.PersonChange { return api.PersonChange{Administrator: &no} }),
		},
	}
}

func groupCommand() *cli.Command {
	return &cli.Command{
		Name:  "group",
		Usage: "make, list and drop groups of people",
		Commands: []*cli.Command{
			{
				Name: "set", Usage: "make a group, or say anew who is in it", ArgsUsage: "NAME",
				Description: "With --issuer-group, whoever is in that group at the OpenID Connect issuer is a member from their " +
					"next sign-in on.\n\n" +
					terminal.Example("piston group set mobile --member ada --member grace",
						"piston group set ops --issuer-group operations --administrators"),
				Flags: []cli.Flag{&cli.StringSliceFlag{Name: "member", Usage: "a person; may be repeated"},
					&cli.StringFlag{Name: "issuer-group", Usage: "group at the issuer"},
					&cli.BoolFlag{Name: "administrators", Usage: "its members may do everything"}, terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					g, err := cl.SetGroup(ctx, args[0],
						api.GroupChange{Administrators: c.Bool("administrators"), IssuerGroup: c.String("issuer-group"),
							Members: append([]string{}, c.StringSlice("member")...)})
					return told(c, g, err, fmt.Sprintf("Group %s has %s.", args[0], plural(len(g.Members), "member")))
				}, "NAME"),
			},
			{
				Name: "list", Usage: "list groups with their members",
				Description: terminal.Example("piston group list"), Flags: terminal.PageFlags,
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Groups(ctx, terminal.PageOf(c))
					return terminal.ListedPage(c, list, err, []string{"GROUP", "", "AT THE ISSUER", "MEMBERS"},
						func(s *terminal.Screen, g api.Group) []string {
							is := ""
							if g.Administrators {
								is = "administrators"
							}
							return []string{s.In(terminal.Strong, g.Name), is, terminal.Short(g.IssuerGroup, 40),
								strings.Join(g.Members, " ")}
						}, "No groups yet: piston group set NAME --member PERSON", func(g api.Group) string { return g.Name })
				}),
			},
			{
				Name: "drop", Usage: "remove a group with the roles it was given", ArgsUsage: "NAME",
				Description: terminal.Example("piston group drop mobile"), Flags: []cli.Flag{terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					return told(c, map[string]string{"dropped": args[0]}, cl.DropGroup(ctx, args[0]),
						fmt.Sprintf("Group %s is removed.", args[0]))
				}, "NAME"),
			},
		},
	}
}

func roleCommand() *cli.Command {
	at := []cli.Flag{&cli.StringFlag{Name: "project", Usage: "in this project; without it, in every one"},
		&cli.BoolFlag{Name: "group", Usage: "NAME is a group"}, terminal.JSONFlag}
	grant := func(c *cli.Command, role, name string) api.Grant {
		g := api.Grant{Project: c.String("project"), Person: name, Role: access.Role(role)}
		if c.Bool("group") {
			g.Person, g.Group = "", name
		}
		return g
	}
	in := func(project string) string {
		if project == "" {
			return "every project"
		}
		return project
	}
	return &cli.Command{
		Name:  "role",
		Usage: "say who may do what in which project",
		Commands: []*cli.Command{
			{
				Name: "give", Usage: "give a person or a group a role", ArgsUsage: "ROLE NAME",
				Description: "reader sees runs, logs and artifacts; builder starts and stops them, too; keeper sets secrets and " +
					"settings, too.\n\n" +
					terminal.Example("piston role give builder ada --project tidewick", "piston role give reader everyone --group"),
				Flags: at,
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					g := grant(c, args[0], args[1])
					return told(c, g, cl.Grant(ctx, g), fmt.Sprintf("%s is %s of %s.", g.Whom(), args[0], in(g.Project)))
				}, "ROLE", "NAME"),
			},
			{
				Name: "take", Usage: "take a role away", ArgsUsage: "NAME",
				Description: terminal.Example("piston role take ada --project tidewick"), Flags: at,
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					g := grant(c, "", args[0])
					return told(c, g, cl.TakeRole(ctx, g),
						fmt.Sprintf("%s has no role of their own in %s any more.", g.Whom(), in(g.Project)))
				}, "NAME"),
			},
			{
				Name: "list", Usage: "list who has which role", ArgsUsage: "[PROJECT]",
				Description: "A role's name, for --after and --contains, is PROJECT/PERSON or PROJECT/group GROUP, with * for " +
					"every project.\n\n" + terminal.Example("piston role list tidewick",
					"piston role list --contains /ada"), Flags: terminal.PageFlags,
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					list, err := cl.Roles(ctx, args[0], terminal.PageOf(c))
					return terminal.ListedPage(c, list, err, []string{"PROJECT", "WHO", "ROLE"}, func(s *terminal.Screen,
						g api.Grant) []string {
						return []string{in(g.Project), s.In(terminal.Strong, g.Whom()), string(g.Role)}
					}, "No roles are given yet: piston role give ROLE NAME", api.Grant.Key)
				}, "[PROJECT]"),
			},
		},
	}
}
