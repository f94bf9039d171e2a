package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/source"
)

func explainCommand() *cli.Command {
	return &cli.Command{
		Name:      "explain",
		Usage:     "print a pipeline as it is understood, with where each value is from",
		ArgsUsage: "PIPELINE [FOLDER]",
		Description: "Parts are put in, variants laid out, defaults written out. Where a step raises a version, it tells " +
			"which a run would\n" +
			"get now; the ledger is asked when you are signed in.\n\n" +
			terminal.Example("piston explain trunk", "piston explain trunk --job android"),
		Flags: append([]cli.Flag{&cli.StringFlag{Name: "job", Usage: "only this job"}, terminal.JSONFlag},
			ledgerFlags...),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Words(c, "PIPELINE", "[FOLDER]")
			if err != nil {
				return err
			}
			if args[1] == "" {
				args[1] = "."
			}
			hasten()
			w, err := openTree(ctx, args[1])
			if err != nil {
				return err
			}
			done, err := checkTree(w, nil, true)
			if err != nil {
				return err
			}
			f, err := done.pipeline(args[0])
			if err != nil {
				return err
			}
			next, note := nextVersions(ctx, c, w, f.Pipeline)
			values := append(f.Pipeline.Explain(), next...)
			if job := c.String("job"); job != "" {
				if f.Pipeline.Job[job] == nil {
					return terminal.Ending(terminal.ExitFailed, fmt.Errorf("pipeline %s has no job %q", args[0], job))
				}
				values = only(values, job)
			}
			if c.Bool("json") {
				return terminal.PrintJSON(terminal.Out(c), values)
			}
			s := terminal.NewScreen(terminal.Out(c))
			rows := make([][]string, len(values))
			for i, v := range values {
				rows[i] = []string{v.Key, terminal.Short(v.Text, 70), s.In(terminal.Faint, v.From)}
			}
			s.Table([]string{"KEY", "VALUE", "FROM"}, rows)
			if note != "" && len(next) > 0 {
				s.Line("%s", s.In(terminal.Faint, note))
			}
			return nil
		},
	}
}

func only(values []definition.Value, job string) (list []definition.Value) {
	for _, v := range values {
		if v.Of == job {
			list = append(list, v)
		}
	}
	return list
}

// nextVersions tells which versions a run of a pipeline would get now: for each raise, and each choice it leaves.
func nextVersions(ctx context.Context, c *cli.Command, w *source.WorkTree, p *definition.Pipeline) (
	list []definition.Value, note string) {
	wishes := p.Wishes()
	if len(wishes) == 0 {
		return nil, ""
	}
	apps, err := appsHere(w, "")
	if err != nil {
		return nil, err.Error()
	}
	note = askLedger(ctx, c, w, apps)
	for _, wish := range wishes {
		for _, a := range apps {
			if wish.App != "" && wish.App != a.app.Name || wish.App == "" && len(apps) > 1 {
				continue
			}
			v := definition.Value{Key: "next." + a.app.Name, Of: wish.Job, From: wish.When}
			if next, err := a.next(ctx, w, wish.Wish); err != nil {
				v.Text = err.Error()
			} else {
				v.Text = next.String()
			}
			list = append(list, v)
		}
	}
	return list, note
}
