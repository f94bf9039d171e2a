package cli

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/bill"
	"gentlepiston.example/piston/core/provenance"
	"gentlepiston.example/piston/packaging"
)

// statementEnding is what the file with a package's statement is called, after the package.
const statementEnding = ".provenance.json"

// billEnding is that of the file with what it is made of.
const billEnding = ".bill.json"

func statementKeyCommand() *cli.Command {
	return &cli.Command{
		Name: "statement-key", Usage: "show the key that the service's signed statements are checked with",
		Description: "Keep it where packages are checked: piston verify needs nothing else.\n\n" +
			terminal.Example("piston statement-key > service.pem"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			k, err := cl.StatementKey(ctx)
			if err != nil || c.Bool("json") {
				return terminal.OrJSON(c, k, err)
			}
			_, err = fmt.Fprint(terminal.Out(c), k.Key)
			return err
		}),
	}
}

func verifyCommand() *cli.Command {
	return &cli.Command{
		Name:      "verify",
		Usage:     "check from what a package was built, by a signed statement, without the service",
		ArgsUsage: "FILE",
		Description: "Tells from which commit, by which pipeline and with which tools a package was built, and whether the " +
			"bytes are those. It asks\nnobody: the statement lies beside the package, the key comes from piston " +
			"statement-key. A bill of materials in FILE" + billEnding + "\nis checked, too.\n\n" +
			terminal.Example("piston packages tidewick 12 --provenance > tidewick.apk"+statementEnding,
				"piston packages tidewick 12 --bill > tidewick.apk"+billEnding,
				"piston verify tidewick.apk --key service.pem"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "key", Usage: "the service's public key", Required: true},
			&cli.StringFlag{Name: "statement", Usage: "the signed statement", DefaultText: "FILE" + statementEnding},
			terminal.JSONFlag,
		},
		Action: verifyFile,
	}
}

func verifyFile(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "FILE")
	if err != nil {
		return err
	}
	failed := func(err error) error { return terminal.Ending(terminal.ExitFailed, err) }
	keyText, err := readWhole(c.String("key"), 64<<10)
	if err != nil {
		return err
	}
	key, err := provenance.ParseKey(keyText)
	if err != nil {
		return failed(fmt.Errorf("%s: %w", c.String("key"), err))
	}
	name := c.String("statement")
	if name == "" {
		name = args[0] + statementEnding
	}
	sum, err := packaging.Sum(args[0])
	if err != nil {
		return failed(fmt.Errorf("%s: %w", args[0], err))
	}
	v := verified{}
	if v.Statement, err = openStatement(ctx, name, args[0], sum, key); err != nil {
		return err
	}
	build, err := v.Build()
	if err != nil {
		return failed(fmt.Errorf("%s: %w", name, err))
	}
	listed := args[0] + billEnding
	if _, err := os.Stat(listed); err == nil {
		statement, err := openStatement(ctx, listed, args[0], sum, key)
		if err != nil {
			return err
		}
		if v.Bill, err = statement.Bill(); err != nil {
			return failed(fmt.Errorf("%s: %w", listed, err))
		}
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), v)
	}
	s := terminal.NewScreen(terminal.Out(c))
	showStatement(s, args[0], v.Subject[0], build)
	if v.Bill == nil {
		return nil
	}
	all, used, err := bill.Count(v.Bill)
	if err != nil {
		return failed(fmt.Errorf("%s: %w", listed, err))
	}
	s.Line("  %-10s%d components, of which %d are packages of others", "made of", all, used)
	return nil
}

// verified is what the command answers: the statement, and the bill when it lies beside the package, too.
type verified struct {
	provenance.Statement
	Bill json.RawMessage `json:"bill,omitempty"`
}

// openStatement opens a statement that is about a file with a SHA-256.
func openStatement(ctx context.Context, name, file, sum string, key ed25519.PublicKey) (provenance.Statement, error) {
	envelope, err := readWhole(name, provenance.MaxEnvelope)
	if err != nil {
		return provenance.Statement{}, err
	}
	st, err := provenance.Open(ctx, envelope, key)
	if err != nil {
		return st, terminal.Ending(terminal.ExitFailed, fmt.Errorf("%s: %w", name, err))
	}
	if err := st.Check(sum); err != nil {
		return st, terminal.Ending(terminal.ExitFailed, fmt.Errorf("%s: %w", file, err))
	}
	return st, nil
}

// showStatement tells it in one screen.
func showStatement(s *terminal.Screen, file string, subject provenance.Subject, of provenance.Predicate) {
	build, run := of.BuildDefinition, of.RunDetails
	about := subject.Annotations
	s.Line("%s  %s", s.In(terminal.Green, "✓ "+file), s.In(terminal.Strong, "these are the bytes that were built"))
	say := func(what, text string) {
		if text != "" {
			s.Line("  %-10s%s", what, terminal.CleanLine(text, false))
		}
	}
	say("package", fmt.Sprintf("%s %s (%s), %s", about["app"], about["version"], about["build"], about["kind"]))
	say("SHA-256", subject.Digest["sha256"])
	for _, source := range build.ResolvedDependencies {
		say("commit", source.Digest["gitCommit"])
		say("of", strings.TrimPrefix(source.URI, "git+"))
	}
	p := build.ExternalParameters
	by := fmt.Sprintf("%s of %s, run %s", p.Pipeline, p.Project, run.Metadata.InvocationID)
	if p.Branch != "" {
		by += ", branch " + p.Branch
	}
	if p.Tag != "" {
		by += ", tag " + p.Tag
	}
	say("pipeline", by+" ("+p.Trigger+")")
	var inputs, tools []string
	for _, name := range slices.Sorted(maps.Keys(p.Inputs)) {
		inputs = append(inputs, name+" = "+p.Inputs[name])
	}
	for _, name := range slices.Sorted(maps.Keys(build.InternalParameters.Tools)) {
		tools = append(tools, strings.TrimSpace(name+" "+build.InternalParameters.Tools[name]))
	}
	say("inputs", strings.Join(inputs, ", "))
	say("tools", strings.Join(tools, ", "))
	say("runner", build.InternalParameters.Runner)
	if run.Metadata.Started != nil {
		say("began", run.Metadata.Started.UTC().Format(time.RFC3339))
	}
	if n := build.InternalParameters.Against; n > 0 {
		say("beware", s.In(terminal.Red, fmt.Sprintf("it was against %d rules of the checklist", n)))
	}
}
