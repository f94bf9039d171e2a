package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"unicode"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/diagnose"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/state"
)

// cleanLine makes a log line safe for a terminal: colours may pass, no other control sequence does.
func cleanLine(text string, colour bool) string {
	if !colour {
		text = diagnose.Plain(text)
	}
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\t' && (r != '\x1b' || !colour) {
			return -1
		}
		return r
	}, text)
}

func watchCommand() *cli.Command {
	return &cli.Command{
		Name:      "watch",
		Usage:     "follow a run as it happens; fails when the run fails",
		ArgsUsage: "PROJECT [RUN]",
		Description: "Prints every line of every job, then the report. Without RUN, the latest. Exit code 0 when the run passed,\n" +
			"1 when it did not. With --json each event is one line of JSON, the last one the whole run.\n\n" +
			example("git push && piston watch tidewick"),
		Flags: []cli.Flag{jsonFlag},
		Action: aboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string, n int64, file string) error {
			d, err := watch(ctx, c, cl, project, n)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				err = printJSON(out(c), d)
			} else {
				newScreen(out(c)).run(d)
			}
			if err == nil && d.State != state.Passed {
				err = coded{exitFailed, nil}
			}
			return err
		}, "PROJECT", "[RUN]"),
	}
}

// logLines prints lines with their job's name before them.
func (s *screen) logLines(b api.LogBatch) {
	for _, l := range b.Lines {
		s.line("%s %s", s.in(faint, fmt.Sprintf("%-10s│", short(b.Job, 10))), cleanLine(l.Text, s.colour))
	}
}

var errOver = errors.New("the run is over")

// watch prints a run's log lines as they come and returns the run when it is over and every line has been printed.
func watch(ctx context.Context, c *cli.Command, cl *client.Client, project string, n int64) (api.RunDetail, error) {
	s := newScreen(out(c))
	print := func(b api.LogBatch) error {
		if c.Bool("json") {
			return printJSON(out(c), b)
		}
		s.logLines(b)
		return nil
	}
	printed := map[string]int64{} // last line of each attempt's log
	name := func(job string, attempt int) string { return fmt.Sprintf("%s.%d", job, attempt) }
	over := func() error {
		d, err := cl.Run(ctx, project, n)
		if err == nil && d.State.Over() {
			return errOver
		}
		return err
	}
	err := cl.Stream(ctx, client.Topic{Project: project, Run: n, Log: "*"}, "", func(e client.Event) error {
		switch {
		case e.Log != nil:
			printed[name(e.Log.Job, e.Log.Attempt)] = e.Log.Lines[len(e.Log.Lines)-1].N
			return print(*e.Log)
		case e.Change == nil || e.Change.State.Over():
			return over() // at the beginning, and when it says so
		}
		return nil
	})
	if err != nil && !errors.Is(err, errOver) {
		return api.RunDetail{}, err
	}
	// The end of a run may be told before its last lines; they are read where they are kept.
	d, err := cl.Run(ctx, project, n)
	if err != nil {
		return d, err
	}
	for _, j := range d.Jobs {
		for _, a := range j.Attempts {
			if err := rest(ctx, cl, project, n, j.Name, a.Number, printed[name(j.Name, a.Number)]+1, print); err != nil {
				return d, err
			}
		}
	}
	return d, nil
}

// rest reads a log from a line on to its end.
func rest(ctx context.Context, cl *client.Client, project string, run int64, job string, attempt int, from int64, take func(api.LogBatch) error) error {
	for {
		part, err := cl.Log(ctx, project, run, job, client.LogQuery{Attempt: attempt, From: from, Limit: 5000})
		if err != nil || len(part.Lines) == 0 {
			return err
		}
		if err := take(api.LogBatch{Job: job, Attempt: part.Attempt, Lines: part.Lines}); err != nil {
			return err
		}
		from = part.Lines[len(part.Lines)-1].N + 1
	}
}

func logCommand() *cli.Command {
	return &cli.Command{
		Name:        "log",
		Usage:       "print the log of a run's jobs",
		ArgsUsage:   "PROJECT [RUN]",
		Description: "Without RUN, the latest. Without --job, all jobs one after the other.\n\n" + example("piston log tidewick 12 --job android", "piston log tidewick 12 --job android --tail 50"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "job", Usage: "only of this job"},
			&cli.IntFlag{Name: "attempt", Usage: "of this attempt; default the latest"},
			&cli.Int64Flag{Name: "from", Usage: "from this line on"},
			&cli.Int64Flag{Name: "tail", Usage: "only the last so many lines"},
			&cli.BoolFlag{Name: "numbers", Usage: "print line numbers"},
			jsonFlag,
		},
		Action: aboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string, n int64, file string) error {
			jobs := []string{c.String("job")}
			if jobs[0] == "" {
				d, err := cl.Run(ctx, project, n)
				if err != nil {
					return err
				}
				jobs = nil
				for _, j := range d.Jobs {
					jobs = append(jobs, j.Name)
				}
			}
			s := newScreen(out(c))
			for _, job := range jobs {
				if len(jobs) > 1 && !c.Bool("json") {
					s.line("%s", s.in(strong, "== "+job))
				}
				if err := printLog(ctx, c, cl, s, project, n, job); err != nil {
					return err
				}
			}
			return nil
		}, "PROJECT", "[RUN]"),
	}
}

func printLog(ctx context.Context, c *cli.Command, cl *client.Client, s *screen, project string, run int64, job string) error {
	from := max(c.Int64("from"), 1)
	if tail := c.Int64("tail"); tail > 0 {
		part, err := cl.Log(ctx, project, run, job, client.LogQuery{Attempt: c.Int("attempt"), Tail: tail, Limit: 1})
		if err != nil {
			return err
		}
		from = max(1, part.Total-tail+1)
	}
	return rest(ctx, cl, project, run, job, c.Int("attempt"), from, func(b api.LogBatch) error {
		if c.Bool("json") {
			return printJSON(out(c), b)
		}
		for _, l := range b.Lines {
			if c.Bool("numbers") {
				s.line("%s %s", s.in(faint, fmt.Sprintf("%7d", l.N)), cleanLine(l.Text, s.colour))
			} else {
				s.line("%s", cleanLine(l.Text, s.colour))
			}
		}
		return nil
	})
}

func getCommand() *cli.Command {
	return &cli.Command{
		Name:        "get",
		Usage:       "download a run's artifacts",
		ArgsUsage:   "PROJECT RUN [FILE]",
		Description: "FILE is the path or the name of an artifact as piston show tells it; without it, all. A file that is there\nalready is left alone unless its content is the same.\n\n" + example("piston get tidewick 12 tidewick.apk --to ~/Downloads"),
		Flags:       []cli.Flag{&cli.StringFlag{Name: "to", Usage: "folder to put them in", Value: "."}, jsonFlag},
		Action: aboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client, project string, n int64, file string) error {
			d, err := cl.Run(ctx, project, n)
			if err != nil {
				return err
			}
			var got []fetched
			for _, a := range d.Artifacts {
				if file != "" && file != a.Path && file != path.Base(a.Path) && file != a.Name {
					continue
				}
				f, err := fetch(ctx, cl, project, n, a, c.String("to"))
				if err != nil {
					return err
				}
				got = append(got, f)
			}
			if len(got) == 0 {
				return fmt.Errorf("run %d has no artifact %q; piston show %s %d lists what it has", n, file, project, n)
			}
			if c.Bool("json") {
				return printJSON(out(c), got)
			}
			for _, f := range got {
				fmt.Fprintf(out(c), "%s  %s  sha256 %s\n", f.File, quantity.Bytes(f.Size), f.SHA256)
			}
			return nil
		}, "PROJECT", "RUN", "[FILE]"),
	}
}

// fetched is a downloaded artifact.
type fetched struct {
	File   string `json:"file"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

func fetch(ctx context.Context, cl *client.Client, project string, run int64, a api.Artifact, to string) (fetched, error) {
	f := fetched{File: filepath.Join(to, path.Base(a.Path)), Size: a.Size, SHA256: a.SHA256}
	if sum, err := fileDigest(f.File); err == nil {
		if sum == a.SHA256 {
			return f, nil
		}
		return f, fmt.Errorf("%s is there already with other content; move it away, or name another folder with --to", f.File)
	}
	content, err := cl.Artifact(ctx, project, run, a.ID)
	if err != nil {
		return f, err
	}
	defer content.Close()
	half, err := os.CreateTemp(to, ".piston-*")
	if err != nil {
		return f, err
	}
	defer os.Remove(half.Name())
	sum, err := copyDigest(half, content)
	if closeErr := half.Close(); err == nil {
		err = closeErr
	}
	if err == nil && sum != a.SHA256 {
		err = fmt.Errorf("%s arrived damaged: its digest is %s and should be %s; try again", f.File, sum, a.SHA256)
	}
	if err == nil {
		err = os.Chmod(half.Name(), 0o644)
	}
	if err == nil {
		err = os.Rename(half.Name(), f.File)
	}
	return f, err
}
