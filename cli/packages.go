package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/checklist"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
)

func packagesCommand() *cli.Command {
	return &cli.Command{
		Name:      "packages",
		Usage:     "list packages that runs have made, or tell of one: what is in it, and what the checklist says",
		ArgsUsage: "PROJECT [ID]",
		Description: "The newest first. One is there when a step with checklist has looked into it.\n\n" +
			terminal.Example("piston packages tidewick --kind apk", "piston packages tidewick --sha256 31ab9d35",
				"piston packages tidewick 12"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "app", Usage: "only of this application id"},
			&cli.StringFlag{Name: "kind", Usage: "apk, app-bundle or ipa"},
			&cli.StringFlag{Name: "version", Usage: "only of this version or build number"},
			&cli.StringFlag{Name: "commit", Usage: "only of this commit"},
			&cli.StringFlag{Name: "sha256", Usage: "only the one whose hash begins like this"},
			&cli.StringFlag{Name: "build-id", Usage: "only those with a program of this build id or UUID, as a crash names it"},
			&cli.Int64Flag{Name: "run", Usage: "only of this run", HideDefault: true},
			&cli.Int64Flag{Name: "before", Usage: "what a page before said under More", HideDefault: true},
			&cli.BoolFlag{Name: "provenance", Usage: "of one: answer with a signed statement from what it was built"},
			&cli.BoolFlag{Name: "bill", Usage: "of one: answer with a signed statement what it is made of (CycloneDX)"},
			&cli.BoolFlag{Name: "sarif", Usage: "of one: answer with what the checklist says in SARIF 2.1.0"},
			&cli.IntFlag{Name: "parts", Usage: "of one: how many of the largest files are shown", Value: 8},
			terminal.LimitFlag(20, 500), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			if len(args) > 1 && args[1] != "" {
				return showOnePackage(ctx, c, cl, args[0], args[1])
			}
			return listPackages(ctx, c, cl, args[0])
		}, "PROJECT", "[ID]"),
	}
}

func listPackages(ctx context.Context, c *cli.Command, cl *client.Client, project string) error {
	page, err := cl.Packages(ctx, project, api.PackageFilter{App: c.String("app"), Kind: c.String("kind"),
		Version: c.String("version"), Commit: c.String("commit"), SHA256: c.String("sha256"),
		BuildID: c.String("build-id"), Run: record.RunNumber(c.Int64("run")),
		Before: record.PackageID(c.Int64("before")), Limit: c.Int("limit")})
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, page, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	var rows [][]string
	for _, p := range page.Packages {
		says := s.In(terminal.Green, "meets all")
		switch {
		case p.Failed > 0:
			says = s.In(terminal.Red, fmt.Sprintf("%d against", p.Failed))
		case p.Findings > 0:
			says = fmt.Sprintf("%d noted", p.Findings)
		}
		rows = append(rows, []string{fmt.Sprint(p.ID), p.File, string(p.Kind), p.App,
			fmt.Sprintf("%s (%s)", p.Version, p.Build), quantity.Bytes(p.Size), says,
			fmt.Sprintf("%d %s", p.Run, p.Pipeline), fmt.Sprintf("%.8s", p.Commit), fmt.Sprintf("%.12s", p.SHA256)})
	}
	if len(rows) == 0 {
		s.Line("No packages: a step with checklist looks into them.")
		return nil
	}
	s.Table([]string{"ID", "FILE", "KIND", "APP", "VERSION", "SIZE", "CHECKLIST", "RUN", "COMMIT", "SHA-256"}, rows)
	if page.Next > 0 {
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("More: --before %d", page.Next)))
	}
	return nil
}

func showOnePackage(ctx context.Context, c *cli.Command, cl *client.Client, project, id string) error {
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil || n < 1 {
		return terminal.Usage("%q is no package: piston packages %s lists them", id, project)
	}
	ask := map[bool]func(context.Context, string, record.PackageID) (api.Provenance, error){true: cl.Provenance,
		false: cl.Bill}[c.Bool("provenance")]
	if c.Bool("provenance") || c.Bool("bill") {
		statement, err := ask(ctx, project, record.PackageID(n))
		if err != nil || c.Bool("json") {
			return terminal.OrJSON(c, statement, err)
		}
		_, err = fmt.Fprintln(terminal.Out(c), statement.Envelope)
		return err
	}
	p, err := cl.Package(ctx, project, record.PackageID(n))
	if err != nil || c.Bool("json") && !c.Bool("sarif") {
		return terminal.OrJSON(c, p, err)
	}
	if c.Bool("sarif") {
		return checklistSARIF(c, p)
	}
	s := terminal.NewScreen(terminal.Out(c))
	s.Line("%s  %s", s.In(terminal.Strong, p.File), s.In(terminal.Faint, fmt.Sprintf("run %d, %s of %s, %.12s, SHA-256 %s",
		p.Run, p.Pipeline, p.Branch, p.Commit, p.SHA256)))
	one := inspected{File: p.File, Facts: p.Facts}
	if p.Since != nil {
		was := p.Since.Package
		one.Since = &sinceFacts{was.File, was.Size, was.Version, was.Build, p.Since.Groups,
			p.Since.Entries[:min(len(p.Since.Entries), c.Int("parts"))]}
	}
	showPackage(s, one, c.Int("parts"))
	if r := p.Released; r != nil {
		s.Line("Since the released %s (%s), run %d: %s, was %s (%s)", r.Package.Version, r.Package.Build, r.Package.Run,
			quantity.Bytes(p.Size), quantity.Bytes(r.Package.Size), grown(r.Package.Size, p.Size))
	}
	showChecklist(s, p.Checklist)
	return nil
}

func showChecklist(s *terminal.Screen, list []checklist.Breach) {
	if len(list) == 0 {
		s.Line("%s", s.In(terminal.Green, "meets every rule of the checklist"))
	}
	for _, f := range list {
		if f.Accepted != "" {
			s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("accepted until %s: %s [%s]; %s", f.Until, f.Message, f.Rule,
				f.Accepted)))
			continue
		}
		level := s.In(terminal.Red, "error:")
		switch {
		case f.Asked:
			level = s.In(terminal.Magenta, "people are asked:")
		case f.Advice:
			level = s.In(terminal.Magenta, "warning:")
		}
		s.Line("%s %s %s", level, f.Message, s.In(terminal.Faint, "["+f.Rule+"]"))
		s.Line("    %s", f.Fix)
	}
}

// checklistSARIF answers with what is against a rule as an error, and what is accepted as a warning.
func checklistSARIF(c *cli.Command, p api.PackageDetail) error {
	var found []definition.Finding
	for _, b := range p.Checklist {
		f := definition.Finding{Code: b.Rule, Severity: definition.Error, File: b.File, Message: b.Message, Fix: b.Fix}
		if b.Advice || b.Asked {
			f.Severity = definition.Warning
		}
		if b.Accepted != "" {
			f.Severity, f.Fix = definition.Warning, fmt.Sprintf("Accepted until %s: %s", b.Until, b.Accepted)
		}
		found = append(found, f)
	}
	means := map[string]string{}
	for _, r := range definition.ListRules {
		means[r.Name] = r.Wants + " " + r.Why
	}
	return writeSARIF(terminal.Out(c), "piston checklist", means, found)
}
