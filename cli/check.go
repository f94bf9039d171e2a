package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/core/definition"
)

func checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "check the pipeline files of a repository, before the push",
		ArgsUsage: "[FOLDER]",
		Description: "Reads piston/*.toml below FOLDER (default: here) and says what is wrong, with its place and what to do.\n" +
			"Exit code 1 when there are errors.\n\n" + example("piston check"),
		Flags: []cli.Flag{jsonFlag},
		Action: func(_ context.Context, c *cli.Command) error {
			args, err := words(c, "[FOLDER]")
			if err != nil {
				return err
			}
			files, findings, err := checkFolder(args[0])
			if err != nil {
				return coded{exitFailed, err}
			}
			w := out(c)
			if c.Bool("json") {
				if err := printJSON(w, map[string]any{"files": files, "findings": findings}); err != nil {
					return err
				}
			} else {
				for _, f := range findings {
					fmt.Fprintf(w, "%s\n\n", f)
				}
			}
			if definition.HasErrors(findings) {
				return coded{exitFailed, nil}
			}
			if !c.Bool("json") {
				fmt.Fprintf(w, "%d pipeline files, nothing wrong.\n", len(files))
			}
			return nil
		},
	}
}

func checkFolder(top string) (files []string, findings []definition.Finding, err error) {
	if top == "" {
		top = "."
	}
	findings = []definition.Finding{}
	paths, err := filepath.Glob(filepath.Join(top, definition.Folder, "*.toml"))
	if err != nil {
		return nil, nil, err
	}
	for _, p := range paths {
		name := definition.Folder + "/" + filepath.Base(p)
		if !definition.IsPipelineFile(name) {
			continue
		}
		text, err := readUpTo(p, definition.MaxFileSize+1)
		if err != nil {
			return nil, nil, err
		}
		files = append(files, name)
		_, found := definition.Parse(name, text)
		findings = append(findings, found...)
	}
	if len(files) == 0 {
		return nil, nil, fmt.Errorf("there is no file piston/*.toml in %s; are you at the top of the repository?", top)
	}
	return files, findings, nil
}

func readUpTo(path string, most int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, most))
}
