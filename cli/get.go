package cli

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
)

func getCommand() *cli.Command {
	return &cli.Command{
		Name:      "get",
		Usage:     "download a run's artifacts",
		ArgsUsage: "PROJECT [RUN] [FILE]",
		Description: "FILE is the path or the name of an artifact as piston show tells it; without it, all. A file that " +
			"is there\n" +
			"already is left alone unless its content is the same. Files of one name go below their jobs' names.\n" +
			"With --workspace it is what stands in a workspace that stays: FILE is a file or folder of it, all without " +
			"FILE;\nnone that holds a secret leaves it, and .git is left out.\n" +
			terminal.AboutRunHelp + "\n\n" +
			terminal.Example("piston get tidewick 12 tidewick.apk --to ~/Downloads", "piston get tidewick HEAD --job android",
				"piston get tidewick 12 out/reports --workspace --to reports"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "job", Usage: "only of this job; with a job's own name, of all its variants"},
			&cli.BoolFlag{Name: "workspace", Usage: "files of a workspace that stays, not artifacts"},
			&cli.StringFlag{Name: "to", Usage: "folder to put them in; it is made if need be", Value: "."}, terminal.JSONFlag},
		Action: terminal.AboutRun(func(ctx context.Context, c *cli.Command, cl *client.Client,
			project string, n record.RunNumber, file string) error {
			if c.Bool("workspace") {
				return takeOut(ctx, c, cl, project, n, file)
			}
			d, err := cl.Run(ctx, project, n)
			if err != nil {
				return err
			}
			wanted := slices.DeleteFunc(d.Artifacts, func(a api.Artifact) bool {
				job := c.String("job")
				return job != "" && job != a.Job && !strings.HasPrefix(a.Job, job+"+") ||
					file != "" && file != a.Path && file != path.Base(a.Path) && file != a.Name
			})
			if len(wanted) == 0 {
				return fmt.Errorf("run %d has no such artifact; piston show %s %d lists what it has", n, project, n)
			}
			places, err := placesFor(wanted)
			if err != nil {
				return err
			}
			got := make([]fetched, len(wanted))
			for i, a := range wanted {
				if got[i], err = fetch(ctx, cl, project, n, a, filepath.Join(c.String("to"), places[i])); err != nil {
					return err
				}
			}
			if c.Bool("json") {
				return terminal.PrintJSON(terminal.Out(c), got)
			}
			s := terminal.NewScreen(terminal.Out(c))
			for _, f := range got {
				s.Line("%s  %s  sha256 %s", f.File, quantity.Bytes(f.Size), f.SHA256)
			}
			return nil
		}, "PROJECT", "[RUN]", "[FILE]"),
	}
}

// fetched is a downloaded artifact.
type fetched struct {
	File   string `json:"file"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// placesFor says where each artifact goes below the folder: by its file's name, when no other has that. Else below its
// job's name, as variants of a job keep files of one name; and when one job has two, by its whole path there.
func placesFor(list []api.Artifact) ([]string, error) {
	bases, inJob := map[string]int{}, map[string]int{}
	for _, a := range list {
		bases[path.Base(a.Path)]++
		inJob[path.Join(a.Job, path.Base(a.Path))]++
	}
	places := make([]string, len(list))
	for i, a := range list {
		base := path.Base(a.Path)
		switch {
		case bases[base] == 1:
			places[i] = base
		case inJob[path.Join(a.Job, base)] == 1:
			places[i] = path.Join(a.Job, base)
		default:
			places[i] = path.Join(a.Job, a.Path)
		}
		if !filepath.IsLocal(filepath.FromSlash(places[i])) {
			return nil, fmt.Errorf("the service names an artifact %q, which would leave the folder", a.Path)
		}
	}
	return places, nil
}

func fetch(ctx context.Context, cl *client.Client, project string, run record.RunNumber, a api.Artifact,
	file string) (fetched, error) {
	f := fetched{File: file, Size: a.Size, SHA256: a.SHA256}
	if sum, err := fileDigest(f.File); err == nil {
		if sum == a.SHA256 {
			return f, nil
		}
		return f, fmt.Errorf("%s is there already with other content; move it away, or name another folder with --to", f.File)
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return f, err
	}
	content, err := cl.Artifact(ctx, project, run, a.ID)
	if err != nil {
		return f, err
	}
	defer content.Close()
	half, err := os.CreateTemp(filepath.Dir(file), ".piston-*")
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
