package cli

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
)

func testsCommand() *cli.Command {
	return &cli.Command{
		Name:      "tests",
		Usage:     "list test cases: those that fail, are flaky, slow, new or gone; or tell all of one",
		ArgsUsage: "PROJECT [ID]",
		Description: "A case is flaky when it passed and failed on the same content. Of one case: its results, when it " +
			"broke and with\nwhich change. It can be set aside until a day: its failure fails nothing then; it is still " +
			"run, and shown.\n\n" +
			terminal.Example("piston tests tidewick --show flaky", "piston tests tidewick 17",
				"piston tests tidewick 17 --aside \"times out on Mondays; see the notes\" --until 2027-01-15",
				"piston tests tidewick 17 --back"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "show", Value: "failing",
				Usage: "failing, flaky, slow, slower (than they were), new, gone, aside or all"},
			&cli.StringFlag{Name: "contains", Usage: "only with this in suite or name"},
			&cli.IntFlag{Name: "skip", Usage: "what a page before said under More", HideDefault: true},
			&cli.StringFlag{Name: "aside", Usage: "set the case aside, for this reason"},
			&cli.StringFlag{Name: "until", Usage: "with --aside: the last day of it, such as 2027-01-15"},
			&cli.BoolFlag{Name: "back", Usage: "the case is set aside no longer"},
			terminal.LimitFlag(40, 500), terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			if args[1] == "" {
				if c.String("aside") != "" || c.Bool("back") {
					return terminal.Usage("say which case is meant: piston tests %s ID", args[0])
				}
				return listTests(ctx, c, cl, args[0])
			}
			n, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil || n < 1 {
				return terminal.Usage("%q is no test case: piston tests %s lists them", args[1], args[0])
			}
			return oneTest(ctx, c, cl, args[0], record.CaseID(n))
		}, "PROJECT", "[ID]"),
	}
}

func listTests(ctx context.Context, c *cli.Command, cl *client.Client, project string) error {
	page, err := cl.Tests(ctx, project, api.TestFilter{Show: c.String("show"), Contains: c.String("contains"),
		Skip: c.Int("skip"), Limit: c.Int("limit")})
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, page, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	s.Line("%d cases: %d fail, %d flaky, %d set aside", page.All, page.Failing, page.Flaky, page.Aside)
	var rows [][]string
	for _, t := range page.Cases {
		rows = append(rows, []string{fmt.Sprint(t.ID), resultWord(s, t.Result), terminal.Short(t.Suite+" › "+t.Name, 70),
			terminal.Span(t.Took), usualWord(t), fmt.Sprintf("%d of %d", t.Failures, t.Runs), standsWord(t)})
	}
	if len(rows) == 0 {
		s.Line("None: --show all lists every case.")
		return nil
	}
	s.Table([]string{"ID", "LAST", "CASE", "TOOK", "USUALLY", "FAILED", "HOW IT STANDS"}, rows)
	if page.Next > 0 {
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("More: --skip %d", page.Next)))
	}
	return nil
}

func resultWord(s *terminal.Screen, result string) string {
	switch result {
	case "passed":
		return s.In(terminal.Green, "✓ passed")
	case "failed":
		return s.In(terminal.Red, "✗ failed")
	case "both":
		return s.In(terminal.Magenta, "≈ passed and failed")
	}
	return s.In(terminal.Faint, "− "+result)
}

func usualWord(t api.TestCase) string {
	if t.Usual == nil {
		return "-"
	}
	return terminal.Span(*t.Usual)
}

// standsWord says in a few words what is to be known of a case.
func standsWord(t api.TestCase) string {
	text := ""
	add := func(format string, args ...any) {
		if text != "" {
			text += "; "
		}
		text += fmt.Sprintf(format, args...)
	}
	if t.FailingSince > 0 {
		add("fails since run %d", t.FailingSince)
	}
	if t.Flaky > 0 {
		add("flaky: %d times, last in run %d", t.Flaky, t.FlakyRun)
	}
	if t.Aside != nil {
		add("set aside until %s: %s", t.Aside.Until.Local().Format(time.DateOnly), terminal.Short(t.Aside.Reason, 60))
	}
	if text == "" {
		add("since run %d, last in run %d", t.FirstRun, t.LastRun)
	}
	return text
}

func oneTest(ctx context.Context, c *cli.Command, cl *client.Client, project string, id record.CaseID) error {
	switch reason := c.String("aside"); {
	case reason != "":
		until, err := time.ParseInLocation(time.DateOnly, c.String("until"), time.Local)
		if err != nil {
			return terminal.Usage("--until is a day such as 2027-01-15, not %q: what is set aside ends", c.String("until"))
		}
		t, err := cl.SetTestAside(ctx, project, id, api.NewAside{Reason: reason, Until: until.AddDate(0, 0, 1)})
		if err != nil || c.Bool("json") {
			return terminal.OrJSON(c, t, err)
		}
		terminal.NewScreen(terminal.Out(c)).Line("%s › %s: %s", t.Suite, t.Name, standsWord(t))
		return nil
	case c.Bool("back"):
		if err := cl.EndTestAside(ctx, project, id); err != nil {
			return err
		}
	}
	t, err := cl.Test(ctx, project, id)
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, t, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	s.Line("%s  %s", s.In(terminal.Strong, terminal.Short(t.Suite+" › "+t.Name, 120)), standsWord(t.TestCase))
	s.Line("  %s in job %s of %s; failed %d of %d times; usually %s", resultWord(s, t.Result), t.Job, t.Pipeline,
		t.Failures, t.Runs, usualWord(t.TestCase))
	if b := t.Broke; b != nil {
		s.Line("")
		s.Line("%s run %d: %.9s %s  %s", s.In(terminal.Red, "broke in"), b.Run, b.Commit, terminal.Short(b.Subject, 60),
			s.In(terminal.Faint, terminal.Short(b.Author, 30)))
		if b.Passed > 0 {
			s.Line("It passed in run %d. Different since:", b.Passed)
			showDifferences(s, b.Since)
		}
	}
	for _, change := range t.Changes {
		s.Line("%s", changeWord(s, change))
	}
	s.Line("")
	var rows [][]string
	for _, r := range t.Results[:min(len(t.Results), c.Int("limit"))] {
		word := resultWord(s, r.Result)
		if r.Flaky {
			word += s.In(terminal.Magenta, " flaky")
		}
		rows = append(rows, []string{fmt.Sprint(r.Run), word, terminal.Span(r.Took), r.Job, r.Branch,
			fmt.Sprintf("%.9s", r.Commit), terminal.Short(r.Subject, 40), terminal.Short(r.Message, 80)})
	}
	s.Table([]string{"RUN", "RESULT", "TOOK", "JOB", "BRANCH", "COMMIT", "SUBJECT", "SAID"}, rows)
	return nil
}
