package cli

import (
	"context"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/packaging"
)

func outletCheck() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "hold what speaks the outlet protocol against it, by bringing it a package",
		ArgsUsage: "URL",
		Description: "For whoever writes an adapter of a store. It needs no service; what it brings it withdraws. Use one " +
			"that is there\nfor trying: a build number may be used up.\n\n" +
			"Exit codes: 0 it does all that the protocol says; 1 it does not.\n\n" +
			terminal.Example("piston outlet check http://127.0.0.1:7481 --client piston \\",
				"    --secret-file quayside.secret --package tidewick.apk"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "client", Usage: "the client's id", Value: "piston"},
			&cli.StringFlag{Name: "secret-file", Usage: "a file with its secret, or private key; - for standard input"},
			&cli.StringFlag{Name: "package", Usage: "what is brought: an APK, app bundle or IPA", Required: true},
			&cli.StringFlag{Name: "channel", Usage: "where it is brought to", Value: "release"},
			terminal.JSONFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Words(c, "URL")
			if err != nil {
				return err
			}
			secret, err := secretIn(c.String("secret-file"))
			if err != nil {
				return terminal.Usage("--secret-file: %v", err)
			}
			offer, err := offerOf(ctx, c.String("package"), c.String("channel"))
			if err != nil {
				return terminal.Usage("--package: %v", err)
			}
			s := terminal.NewScreen(terminal.Out(c))
			list := []outlet.Checked{}
			met, err := outlet.Check(ctx, outlet.StoreSettings{URL: args[0], Client: c.String("client"),
				Secret: string(trimLineEnd(secret)), Inside: true}, offer, func(one outlet.Checked) {
				if list = append(list, one); !c.Bool("json") {
					printChecked(s, one)
				}
			})
			if err != nil {
				return terminal.Ending(terminal.ExitUsage, err)
			}
			if c.Bool("json") {
				err = terminal.PrintJSON(terminal.Out(c), list)
			}
			if err != nil || met {
				return err
			}
			return terminal.Ending(terminal.ExitFailed, nil)
		},
	}
}

func printChecked(s *terminal.Screen, one outlet.Checked) {
	switch {
	case one.Skipped:
		s.Line("%s %s", s.In(terminal.Faint, "·"), s.In(terminal.Faint, one.What+" was not checked"))
	case one.Why != "":
		s.Line("%s %s", s.In(terminal.Red, "✗"), one.What)
		s.Line("  %s", one.Why)
	default:
		s.Line("%s %s", s.In(terminal.Green, "✓"), one.What)
	}
}

// offerOf is a package as it is offered, by what is found in it.
func offerOf(ctx context.Context, file, channel string) (o outlet.Offer, err error) {
	p, sum, err := packaging.Inspect(ctx, file, packaging.Looking{Sum: true})
	if err != nil {
		return o, err
	}
	var signers []string
	for _, s := range p.Signers {
		signers = append(signers, s.Fingerprints.Hex())
	}
	return outlet.Offer{App: p.ID, Name: p.Version, Channel: channel, Share: 100,
		Notes: map[string]string{"en": "Brought by piston outlet check"},
		Packages: []outlet.Package{{File: filepath.Base(file), Kind: string(p.Kind), Platform: p.Platform, ID: p.ID,
			Build: p.Build, Size: p.Size, SHA256: sum, Signers: signers, Target: p.Target, Processors: p.Processors,
			Open: func(_ context.Context, from int64) (io.ReadCloser, error) {
				f, err := os.Open(file)
				if err == nil {
					_, err = f.Seek(from, io.SeekStart)
				}
				return f, err
			}}}}, nil
}
