package cli

import (
	"context"
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
)

func versionCommand() *cli.Command {
	return &cli.Command{
		Name:  "version",
		Usage: "tell which version of the program this is",
		Description: "What to write into a report of a fault.\n\n" + terminal.Example("piston version",
			"piston version --json"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: func(_ context.Context, c *cli.Command) error {
			about := struct {
				Version  string `json:"version"`
				Go       string `json:"go"`
				Platform string `json:"platform"`
				Protocol int    `json:"runner_protocol"`
				Least    int    `json:"least_runner_protocol"`
			}{programVersion(), runtime.Version(), runtime.GOOS + "/" + runtime.GOARCH, api.RunnerProtocol,
				api.LeastRunnerProtocol}
			return told(c, about, nil, fmt.Sprintf("piston %s, %s, made with %s; runners: interface %d, at least %d",
				about.Version, about.Platform, about.Go, about.Protocol, about.Least))
		},
	}
}

// programVersion is the program's: the commit it was made from, where that is known.
func programVersion() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			return s.Value[:min(12, len(s.Value))]
		}
	}
	return info.Main.Version
}
