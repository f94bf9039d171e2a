package cli

import (
	"context"
	"os"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/packaging"
	"gentlepiston.example/piston/runner/executor"
)

// packagesInsideCommand is what a runner starts in a job's sandbox; nobody else has a use for it.
func packagesInsideCommand() *cli.Command {
	return &cli.Command{Name: executor.PackagesInside, Hidden: true,
		Action: func(ctx context.Context, _ *cli.Command) error { return packaging.Inside(ctx, os.Stdin, os.Stdout) }}
}
