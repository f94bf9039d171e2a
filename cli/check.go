package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/owenrumney/go-sarif/v3/pkg/report"
	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
)

// exitWarned tells that there are warnings, and no errors.
const exitWarned = 4

// checkFlags say what a check may ask.
var checkFlags = []cli.Flag{
	&cli.StringFlag{Name: "project",
		Usage: "the project of the service to ask for secrets and runners; default: the one with this repository"},
	&cli.BoolFlag{Name: "offline", Usage: "do not ask the service"},
}

func checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "find mistakes in a repository's pipelines, before the push",
		ArgsUsage: "[FOLDER]",
		Description: "Reads piston/ of the checkout that FOLDER (default: here) is in, as it is on this disk, and says " +
			"what is wrong,\n" +
			"with its place and what to do. When you are signed in it asks the service for secrets and runners. It looks for " +
			"private keys and for the\n" +
			"secrets that piston local-secret keeps in what Git tracks. Every finding\n" +
			"has a code; docs/reference/findings.md explains each.\n\n" +
			"Exit codes: 0 nothing found; 1 errors; 4 warnings only.\n\n" +
			terminal.Example("piston check", "piston check --sarif > findings.sarif"),
		Flags: append([]cli.Flag{
			untrackedFlag,
			&cli.BoolFlag{Name: "allow-warnings", Usage: "end with 0 when there are warnings only"},
			&cli.BoolFlag{Name: "sarif", Usage: "answer in SARIF 2.1.0, for code review and editors"},
			terminal.JSONFlag}, append(checkFlags, purseFlags...)...),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Words(c, "[FOLDER]")
			if err != nil {
				return err
			}
			dir := args[0]
			if dir == "" {
				dir = "."
			}
			hasten()
			w, err := openTree(ctx, dir)
			if err != nil {
				return err
			}
			known, note := askService(ctx, c, w)
			done, err := checkTree(w, known, c.Bool("untracked"))
			if err != nil {
				return err
			}
			leaked, err := trackedSecrets(c, done.tree, projectOf(known))
			if err != nil {
				return terminal.Ending(terminal.ExitFailed, err)
			}
			done.result.Findings = append(done.result.Findings, leaked...)
			if err := printCheck(c, done.result, note); err != nil {
				return err
			}
			found := done.result.All()
			switch {
			case definition.HasErrors(found):
				return terminal.Ending(terminal.ExitFailed, nil)
			case len(found) > 0 && !c.Bool("allow-warnings"):
				return terminal.Ending(exitWarned, nil)
			}
			return nil
		},
	}
}

func projectOf(known *check.Service) string {
	if known == nil {
		return ""
	}
	return known.Project
}

func printCheck(c *cli.Command, result check.Result, note string) error {
	w, found := terminal.Out(c), result.All()
	switch {
	case c.Bool("sarif"):
		return writeSARIF(w, "piston check", meanings(), found)
	case c.Bool("json"):
		files := []string{}
		for _, f := range result.Files {
			files = append(files, f.Path)
		}
		return terminal.PrintJSON(w, map[string]any{"files": files, "findings": append([]definition.Finding{}, found...),
			"note": note})
	}
	s := terminal.NewScreen(w)
	errors, warnings := 0, 0
	for _, f := range found {
		if f.Severity == definition.Error {
			errors++
		} else {
			warnings++
		}
		showFinding(s, f)
		s.Line("")
	}
	if note != "" {
		s.Line("%s", s.In(terminal.Faint, note))
	}
	if len(found) == 0 {
		s.Line("%s", s.In(terminal.Green, fmt.Sprintf("%s, nothing found.", plural(len(result.Files), "pipeline"))))
		return nil
	}
	s.Line("%s in %s.", s.In(terminal.Strong, plural(errors, "error")+", "+plural(warnings, "warning")),
		plural(len(result.Files), "pipeline"))
	return nil
}

func plural(n int, word string) string {
	if n == 1 {
		return fmt.Sprintf("1 %s", word)
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// meanings are what the codes of a check mean.
func meanings() map[string]string {
	means := map[string]string{}
	for _, k := range check.Codes {
		means[k.Name] = k.Means
	}
	for _, k := range definition.Codes {
		means[k.Name] = k.Means
	}
	return means
}

// writeSARIF writes findings by the Static Analysis Results Interchange Format (OASIS SARIF 2.1.0).
func writeSARIF(w io.Writer, tool string, means map[string]string, found []definition.Finding) error {
	doc := report.NewV210Report()
	run := sarif.NewRun().WithTool(sarif.NewTool().WithDriver(sarif.NewToolComponent().WithName(tool))).
		WithColumnKind("unicodeCodePoints")
	for _, f := range found {
		run.AddRule(f.Code).WithShortDescription(sarif.NewMultiformatMessageString().WithText(means[f.Code]))
		text := f.Message
		if f.Fix != "" {
			text += "\n" + f.Fix
		}
		place := sarif.NewPhysicalLocation().WithArtifactLocation(sarif.NewArtifactLocation().WithURI(f.File))
		if f.Line > 0 {
			region := sarif.NewRegion().WithStartLine(f.Line)
			if f.Col > 0 {
				region.WithStartColumn(f.Col)
			}
			place.WithRegion(region)
		}
		run.CreateResultForRule(f.Code).WithLevel(string(f.Severity)).WithMessage(sarif.NewMessage().WithText(text)).
			AddLocation(sarif.NewLocation().WithPhysicalLocation(place))
	}
	doc.AddRun(run)
	return doc.PrettyWrite(w)
}

// showFinding prints one for a person.
func showFinding(s *terminal.Screen, f definition.Finding) {
	colour := terminal.Magenta
	if f.Severity == definition.Error {
		colour = terminal.Red
	}
	head, rest, _ := strings.Cut(f.String(), "\n")
	word := ": " + string(f.Severity) + ": "
	place, said, _ := strings.Cut(head, word)
	s.Line("%s: %s: %s", s.In(terminal.Strong, place), s.In(colour, string(f.Severity)), said)
	if rest != "" {
		s.Line("%s", rest)
	}
}

// pipeline finds one that can be used.
func (d checked) pipeline(name string) (check.File, error) {
	var names []string
	for _, f := range d.result.Files {
		names = append(names, f.Name)
		if f.Name != name {
			continue
		}
		if f.Pipeline == nil {
			for _, found := range f.Findings {
				terminal.Complain("%s\n", found)
			}
			return f, terminal.Ending(terminal.ExitFailed, fmt.Errorf("%s cannot be used as it is", f.Path))
		}
		return f, nil
	}
	return check.File{}, terminal.Ending(terminal.ExitFailed,
		fmt.Errorf("there is no pipeline %q; there are: %s", name, strings.Join(names, ", ")))
}
