package cli

import (
	"context"
	"fmt"
	"os"
	"slices"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/packaging"
)

func inspectCommand() *cli.Command {
	return &cli.Command{
		Name:      "inspect",
		Usage:     "look into packages: APKs, app bundles, IPAs",
		ArgsUsage: "FILE...",
		Description: "What each is, asks for and is made of, who signed it, what is in it that is not for those who use " +
			"it, and what has\ngrown since another.\n\n" +
			terminal.Example("piston inspect out/tidewick.apk", "piston inspect new.ipa --since old.ipa --parts 20"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "since", Usage: "tell what changed since this package"},
			&cli.StringSliceFlag{Name: "symbols",
				Usage: "a file by which crashes are read, to tell whether it fits; may be repeated"},
			&cli.BoolFlag{Name: "quick", Usage: "do not search all of it for secrets, tests, source maps and addresses"},
			&cli.IntFlag{Name: "parts", Usage: "how many of the largest files are shown", Value: 8},
			terminal.JSONFlag,
		},
		Action: inspectFiles,
	}
}

// inspected is what the command answers of one.
type inspected struct {
	File string `json:"file"`
	appfile.Facts
	Since *sinceFacts `json:"since,omitempty"`
}

type sinceFacts struct {
	File    string           `json:"file"`
	Size    int64            `json:"size"`
	Version string           `json:"version"`
	Build   string           `json:"build"`
	Groups  []appfile.Growth `json:"groups"`
	Entries []appfile.Growth `json:"entries"`
}

func inspectFiles(ctx context.Context, c *cli.Command) error {
	files := c.Args().Slice()
	if len(files) == 0 {
		return terminal.Usage("say which package: piston inspect FILE")
	}
	var was *appfile.Facts
	if name := c.String("since"); name != "" {
		facts, err := lookInto(ctx, name, packaging.Looking{})
		if err != nil {
			return err
		}
		was = &facts
	}
	how := packaging.Looking{Search: !c.Bool("quick")}
	if list := c.StringSlice("symbols"); len(list) > 0 {
		var err error
		if how.Symbols, err = packaging.ReadSymbols(list); err != nil {
			return terminal.Ending(terminal.ExitFailed, err)
		}
	}
	all := []inspected{}
	for _, name := range files {
		facts, err := lookInto(ctx, name, how)
		if err != nil {
			return err
		}
		one := inspected{File: name, Facts: facts}
		if was != nil {
			groups, entries := appfile.Compare(*was, facts, c.Int("parts"))
			one.Since = &sinceFacts{c.String("since"), was.Size, was.Version, was.Build, groups, entries}
		}
		all = append(all, one)
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), all)
	}
	s := terminal.NewScreen(terminal.Out(c))
	for i, one := range all {
		if i > 0 {
			s.Line("")
		}
		showPackage(s, one, c.Int("parts"))
	}
	return nil
}

func lookInto(ctx context.Context, name string, how packaging.Looking) (appfile.Facts, error) {
	info, err := os.Stat(name) // before it is opened: what is no file may keep one waiting
	switch {
	case err != nil:
		return appfile.Facts{}, terminal.Ending(terminal.ExitFailed, err)
	case info.IsDir():
		return appfile.Facts{}, terminal.Usage("%s is a folder: piston sign makes a package of it", name)
	case !info.Mode().IsRegular():
		return appfile.Facts{}, terminal.Usage("%s is no file", name)
	}
	p, _, err := packaging.Inspect(ctx, name, how)
	if err != nil {
		return appfile.Facts{}, terminal.Ending(terminal.ExitFailed, fmt.Errorf("%s: %w", name, err))
	}
	return p.Facts, nil
}

func showParts(s *terminal.Screen, p appfile.Facts, most int) {
	groups, _ := appfile.Compare(appfile.Facts{}, p, 0)
	var rows [][]string
	for _, g := range groups {
		rows = append(rows, []string{g.Group, quantity.Bytes(g.Now), fmt.Sprintf("%d %%", g.Now*100/max(p.Size, 1))})
	}
	s.Table([]string{"MADE OF", "PACKED", ""}, rows)
	parts := slices.DeleteFunc(slices.Clone(p.Parts), func(p appfile.Part) bool { return p.Path == "" })
	slices.SortStableFunc(parts, func(a, b appfile.Part) int { return int(min(max(b.Packed-a.Packed, -1), 1)) })
	rows = nil
	for _, part := range parts[:min(len(parts), most)] {
		rows = append(rows, []string{terminal.Short(part.Path, 70), quantity.Bytes(part.Packed), quantity.Bytes(part.Size)})
	}
	s.Table([]string{"LARGEST", "PACKED", "UNPACKED"}, rows)
}

func showGrowth(s *terminal.Screen, since sinceFacts, now int64) {
	s.Line("%s", s.In(terminal.Strong, fmt.Sprintf("Since %s (%s): %s, was %s (%s)", since.Version, since.Build,
		quantity.Bytes(now), quantity.Bytes(since.Size), grown(since.Size, now))))
	var rows [][]string
	for _, c := range slices.Concat(since.Groups, since.Entries) {
		name := c.Group
		if c.Path != "" {
			name = "  " + terminal.Short(c.Path, 66)
		}
		rows = append(rows, []string{name, quantity.Bytes(c.Was), quantity.Bytes(c.Now), grown(c.Was, c.Now)})
	}
	s.Table([]string{"PART", "WAS", "IS", "GROWN"}, rows)
}

// grown is by how much something has grown, in bytes and per cent.
func grown(was, now int64) string {
	switch {
	case was == now:
		return "the same"
	case was == 0:
		return "new"
	case now == 0:
		return "gone"
	case now >= was*10:
		return fmt.Sprintf("+%s, %d times as much", quantity.Bytes(now-was), now/was)
	case now < was:
		return fmt.Sprintf("-%s, -%.1f %%", quantity.Bytes(was-now), float64(was-now)*100/float64(was))
	}
	return fmt.Sprintf("+%s, +%.1f %%", quantity.Bytes(now-was), float64(now-was)*100/float64(was))
}
