package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/host"
)

func hostFlags(home, listen string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "home", Usage: "data folder", Value: home, Sources: cli.EnvVars("PISTON_HOME")},
		&cli.StringFlag{Name: "listen", Usage: "address and port of the interface and the console", Value: listen},
		&cli.StringFlag{Name: "database", Usage: "use this PostgreSQL (15 or later) instead of starting one; better in PISTON_DATABASE than here, when it holds a password", Sources: cli.EnvVars("PISTON_DATABASE")},
		&cli.IntFlag{Name: "slots", Usage: "jobs this machine's own runner takes at a time; 0 for no runner", Value: 2},
		&cli.StringFlag{Name: "isolation", Usage: "how its runner keeps steps apart: bubblewrap or none", Value: "bubblewrap"},
		&cli.BoolFlag{Name: "verbose", Usage: "tell more"},
	}
}

func hostOptions(c *cli.Command) host.Options {
	return host.Options{Home: c.String("home"), Listen: c.String("listen"), Database: c.String("database"),
		Slots: c.Int("slots"), Isolate: c.String("isolation"), Log: newLog(os.Stderr, c.Bool("verbose"))}
}

func newLog(w io.Writer, verbose bool) *slog.Logger {
	level := slog.LevelInfo
	if verbose {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: level}))
	slog.SetDefault(log)
	return log
}

func serveCommand() *cli.Command {
	return &cli.Command{
		Name:  "serve",
		Usage: "run the service, with a PostgreSQL and a runner of its own",
		Description: "Keeps everything in the data folder and serves the console and the interface. At its first start it makes\n" +
			"the administrator and prints the password, once. Ctrl-C stops everything in order.\n\n" +
			example("piston serve --home ~/piston --listen 127.0.0.1:7460"),
		Flags: hostFlags(host.DefaultHome(), "127.0.0.1:7460"),
		Action: func(ctx context.Context, c *cli.Command) error {
			h, err := host.Start(ctx, hostOptions(c))
			if err != nil {
				return err
			}
			defer h.Stop()
			w := out(c)
			fmt.Fprintf(w, "Gentle Piston serves at %s\n", h.Address)
			if h.FirstPassword != "" {
				fmt.Fprintf(w, "\n  First start: sign in as admin with the password\n\n      %s\n\n  It is not shown again.\n\n", h.FirstPassword)
			}
			fmt.Fprintln(w, "Ctrl-C stops it.")
			select {
			case <-ctx.Done():
				fmt.Fprintln(w, "Stopping …")
				return nil
			case err := <-h.Failed:
				return err
			}
		},
	}
}
