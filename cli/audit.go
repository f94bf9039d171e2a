package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
)

func auditCommand() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "read who did what", ArgsUsage: "[PROJECT]",
		Description: "Of one project, as its keeper, or of everything, as an administrator. With --all every entry is " +
			"printed, oldest last;\n" +
			"with --json each is one line then, for export.\n\n" +
			terminal.Example("piston audit tidewick --act secret", "piston audit --since 2026-11-01 --all --json > audit.jsonl"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "who", Usage: "only what this person did"},
			&cli.StringFlag{Name: "act", Usage: "only this act, or all that begin so: secret, secret.set"},
			&cli.StringFlag{Name: "subject", Usage: "only what was done to this"},
			&cli.StringFlag{Name: "since", Usage: "only from this day or time on"},
			&cli.StringFlag{Name: "until", Usage: "only before this day or time"},
			&cli.Int64Flag{Name: "before", Usage: "only entries before this one"},
			terminal.LimitFlag(50, 1000),
			&cli.BoolFlag{Name: "all", Usage: "print all, page after page"},
			terminal.JSONFlag,
		},
		Action: terminal.Asking(readAudit, "[PROJECT]"),
	}
}

func readAudit(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	q := client.AuditQuery{Project: args[0], Who: c.String("who"), Act: c.String("act"), Subject: c.String("subject"),
		Before: c.Int64("before"), Limit: c.Int("limit")}
	for name, to := range map[string]*string{"since": &q.Since, "until": &q.Until} {
		at, err := dayOrTime(c.String(name))
		if err != nil {
			return terminal.Usage("--%s %q: write a day as 2026-11-25, or a time as 2026-11-25T14:00:00Z", name, c.String(name))
		}
		*to = at
	}
	if c.Bool("all") {
		q.Limit = 1000
	}
	for {
		page, err := cl.Audit(ctx, q)
		switch {
		case err != nil:
			return err
		case c.Bool("json") && c.Bool("all"):
			lines := json.NewEncoder(terminal.Out(c))
			for _, a := range page.Acts {
				if err := lines.Encode(a); err != nil {
					return err
				}
			}
		default:
			if err := printAudit(c, page); err != nil {
				return err
			}
		}
		if q.Before = page.Next; page.Next == 0 || !c.Bool("all") {
			return nil
		}
	}
}

func dayOrTime(text string) (string, error) {
	if text == "" {
		return "", nil
	}
	at, err := time.ParseInLocation(time.DateOnly, text, time.Local)
	if err != nil {
		at, err = time.Parse(time.RFC3339, text)
	}
	return at.UTC().Format(time.RFC3339), err
}

// changeText tells an act in words, as the console does: empty values say nothing, ids of commits and the midnight of a
// day are cut.
func changeText(before, after []byte) string {
	from, to := side(before), side(after)
	if from == "" {
		return to
	}
	return from + " → " + cmp.Or(to, "nothing")
}

func side(text []byte) string {
	var v any
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber() // as it is written
	if d.Decode(&v) != nil {
		return "" // there is none
	}
	return inWords(v)
}

var commitID = regexp.MustCompile(`^[0-9a-f]{40,64}$`)

func inWords(v any) string {
	var parts []string
	add := func(name string, of any) {
		if text := inWords(of); text != "" {
			parts = append(parts, name+text)
		}
	}
	switch v := v.(type) {
	case nil:
	case []any:
		for _, of := range v {
			add("", of)
		}
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			add(name+" ", v[name])
		}
		slices.SortStableFunc(parts,
			func(a, b string) int { return len(a) - len(b) }) // the end is cut off where there is no room
	default:
		text := fmt.Sprint(v)
		if commitID.MatchString(text) {
			text = text[:7]
		}
		return strings.TrimSuffix(text, "T00:00:00Z") // a day
	}
	return strings.Join(parts, ", ")
}

func printAudit(c *cli.Command, page api.AuditPage) error {
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), page)
	}
	err := terminal.Listed(c, page.Acts, nil,
		[]string{"ENTRY", "WHEN", "WHO", "FROM", "ACT", "PROJECT", "TO WHAT", "BEFORE → AFTER"},
		func(s *terminal.Screen, a api.Act) []string {
			from := a.Door
			if a.Address != "" {
				from += " " + a.Address
			}
			return []string{fmt.Sprint(a.ID), a.At.Local().Format("2006-01-02 15:04:05"), terminal.Short(a.Who, 30),
				terminal.Short(from, 40),
				s.In(terminal.Strong, a.Act), a.Project, terminal.Short(a.Subject, 50), s.In(terminal.Faint,
					terminal.Short(changeText(a.Before, a.After), 120))}
		}, "Nothing of that kind was done.")
	if err == nil && page.Next > 0 && !c.Bool("all") {
		terminal.NewScreen(terminal.Out(c)).Line("More: --before %d", page.Next)
	}
	return err
}
