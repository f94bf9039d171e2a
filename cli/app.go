// Package cli is the command line. Each file is one command, or a few that belong together.
//
// Exit codes: 0 all is well; 1 the run failed or the check found errors; 2 the command line is wrong; 3 the service
// refused or cannot be reached; 4 the check found warnings only.
package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
)

// Main runs the program and returns its exit code.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	// Commands live for a moment and hold little: collecting less often is faster. A server sets its own.
	debug.SetGCPercent(400)
	err := App().Run(ctx, args)
	if err != nil && err.Error() != "" {
		terminal.Complain("piston: %s", err)
	}
	return terminal.CodeOf(err)
}

// App is the command tree.
func App() *cli.Command {
	app := &cli.Command{
		Name:  "piston",
		Usage: "build pipelines for mobile apps: compile, test, version, package and sign on every push",
		Description: "Start with piston demo to see it at work, or piston serve to use it. Every command has --help with\n" +
			"an example, and those that answer something have --json. PROJECT may be left out in a work tree of it.\n\n" +
			"Exit codes: 0 all is well; 1 the run failed or the check found errors; 2 the command line is wrong;\n" +
			"3 the service refused or cannot be reached; 4 the check found warnings only.",
		Suggest: true,
		Version: programVersion(),
		Commands: []*cli.Command{
			serveCommand(), demoCommand(), runnerCommand(),
			checkCommand(), explainCommand(), versionsCommand(), tryCommand(), localSecretCommand(),
			signInCommand(), signOutCommand(), passwordCommand(), projectsCommand(), projectCommand(),
			runsCommand(), pushesCommand(), gatesCommand(), answerCommand(), showCommand(), sinceCommand(),
			timesCommand(), testsCommand(), failuresCommand(), bisectCommand(), causesCommand(), usageCommand(), searchCommand(),
			webhookCommand(), tellCommand(), feedCommand(),
			watchCommand(), logCommand(), compareCommand(), getCommand(),
			shellCommand(), shellsCommand(), stayCommand(), staysCommand(),
			pipelinesCommand(), startCommand(), stopCommand(), againCommand(), queueCommand(), schedulesCommand(), keptCommand(),
			cachesCommand(), whyCommand(),
			ledgerCommand(), releaseCommand(), outletCommand(), publishCommand(), publicationCommand(),
			testerCommand(),
			identityCommand(), signaturesCommand(), packageCommand(), signCommand(),
			inspectCommand(),
			packagesCommand(), verifyCommand(), statementKeyCommand(),
			lettersCommand(), mailCommand(), standInCommand(),
			secretCommand(), masterCommand(), tokenCommand(), runnersCommand(),
			peopleCommand(), personCommand(), groupCommand(), roleCommand(), auditCommand(),
			versionCommand(), manualCommand(),
			hookReportCommand(), runnerNetCommand(), packagesInsideCommand(), referenceCommand(),
		},
		EnableShellCompletion:           true,
		ConfigureShellCompletionCommand: completion,
		ExitErrHandler:                  func(context.Context, *cli.Command, error) {},
	}
	sayUsageOnce(app)
	return app
}

// sayUsageOnce makes what is wrong with a command line an error like others: the parser would print it by itself, too,
// with the whole help before it, and where answers are expected.
func sayUsageOnce(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return terminal.Ending(terminal.ExitUsage, fmt.Errorf("%w; %s --help tells more", err, c.FullName()))
	}
	c.CommandNotFound = func(_ context.Context, c *cli.Command, name string) {
		terminal.Complain("piston: there is no command %q; %s --help lists them", name, c.FullName())
		os.Exit(terminal.ExitUsage)
	}
	for _, sub := range c.Commands {
		sayUsageOnce(sub)
	}
}
