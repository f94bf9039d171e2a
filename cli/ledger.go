package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/version"
)

var platformFlag = &cli.StringFlag{Name: "platform", Usage: "android or ios"}

func ledgerCommand() *cli.Command {
	return &cli.Command{
		Name:      "ledger",
		Usage:     "list the versions that were handed out, and what became of them",
		ArgsUsage: "PROJECT",
		Description: "The newest first. A version is building while its run works, kept when that has passed, and void " +
			"when not: then its name is\n" +
			"free again, its number is not.\n\n" +
			terminal.Example("piston ledger tidewick", "piston ledger tidewick --state kept --csv > ledger.csv"),
		Flags: []cli.Flag{appFlag, platformFlag,
			&cli.StringFlag{Name: "state", Usage: "building, kept or void"},
			&cli.StringFlag{Name: "contains", Usage: "only names with this"},
			&cli.Int64Flag{Name: "before", Usage: "what a page before said under More", HideDefault: true},
			&cli.BoolFlag{Name: "csv", Usage: "answer with all of it as CSV (RFC 4180)"},
			terminal.LimitFlag(20, 1000), terminal.JSONFlag},
		Commands: []*cli.Command{{
			Name:      "floor",
			Usage:     "say which build number a store had before: the next is above it",
			ArgsUsage: "PROJECT NUMBER",
			Description: "A floor only rises.\n\n" +
				terminal.Example("piston ledger floor tidewick 412 --platform android"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "app", Usage: "which app", Value: "app"},
				platformFlag, terminal.JSONFlag},
			Action: terminal.Asking(setFloor, "PROJECT", "NUMBER"),
		}},
		Action: terminal.Asking(showLedger, "PROJECT"),
	}
}

func setFloor(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	n, err := strconv.ParseInt(args[1], 10, 64)
	if err != nil || n < 1 || n > int64(version.MaxBuildNumber) {
		return terminal.Usage("%q is no build number: use one from 1 to %d", args[1], version.MaxBuildNumber)
	}
	in := api.LedgerFloor{App: c.String("app"), Platform: c.String("platform"), Floor: version.BuildNumber(n)}
	if in.Platform != "android" && in.Platform != "ios" {
		return terminal.Usage("say for which platform: --platform android, or ios")
	}
	err = cl.SetLedgerFloor(ctx, args[0], in)
	return told(c, in, err, fmt.Sprintf("The next build of %s for %s is above %d.", in.App, in.Platform, n))
}

func showLedger(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	f := api.LedgerFilter{App: c.String("app"), Platform: c.String("platform"), State: c.String("state"),
		Contains: c.String("contains"), Before: c.Int64("before"), Limit: c.Int("limit")}
	if c.Bool("csv") {
		return api.WriteLedger(terminal.Out(c), api.AsCSV, func(before int64) (api.Ledger, error) {
			f.Before, f.Limit = before, 1000
			return cl.Ledger(ctx, args[0], f)
		})
	}
	ledger, err := cl.Ledger(ctx, args[0], f)
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, ledger, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	for _, l := range ledger.Lines {
		floor := ""
		if l.Floor > 0 {
			floor = fmt.Sprintf(", a store had %d", l.Floor)
		}
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("%s for %s: last %s (%d)%s", l.App, l.Platform, l.Name, l.Last, floor)))
	}
	var rows [][]string
	for _, e := range ledger.Entries {
		rows = append(rows, []string{e.Name, buildRange(e), e.App, e.Platform, s.In(stateColour(e.State), e.State),
			fmt.Sprintf("%d %s", e.Run, e.Pipeline), e.Branch, fmt.Sprintf("%.8s", e.Commit),
			fmt.Sprintf("%.8s", e.Landed), e.Why})
	}
	if len(rows) == 0 {
		s.Line("Nothing was handed out: a step with raise takes the first.")
		return nil
	}
	s.Table([]string{"VERSION", "BUILD", "APP", "FOR", "STATE", "RUN", "BRANCH", "COMMIT", "LANDED", "WHY"}, rows)
	if ledger.Next > 0 {
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("More: --before %d", ledger.Next)))
	}
	return nil
}

func buildRange(e api.LedgerEntry) string {
	if e.LastBuild > e.Build {
		return fmt.Sprintf("%d–%d", e.Build, e.LastBuild)
	}
	return fmt.Sprint(e.Build)
}

func stateColour(state string) string {
	switch state {
	case "kept":
		return terminal.Green
	case "void":
		return terminal.Faint
	}
	return terminal.Strong
}
