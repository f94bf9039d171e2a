package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/sign"
	"gentlepiston.example/piston/core/sign/bundle"
	"gentlepiston.example/piston/packaging"
)

func signCommand() *cli.Command {
	return &cli.Command{
		Name:      "sign",
		Usage:     "sign packages with a key on this machine: APKs, app bundles, apps of iOS",
		ArgsUsage: "FILE...",
		Description: "A signed copy of each goes into a folder; what is there already is not written over. An APK is " +
			"aligned and signed by every\nscheme that the devices it is for need. A folder Name.app becomes Name.ipa, " +
			"with the provisioning profile in it. What a file\nwas signed with before is gone.\n\n" +
			"The key is a PKCS #12, JKS or PEM file. Its password is asked for, or the first line of standard input.\n\n" +
			terminal.Example("piston sign --key release.p12 --into signed out/*.apk",
				"piston sign --key ios.p12 --profile store.mobileprovision --into signed out/Tidewick.app",
				"piston sign --throw-away --into signed out/tidewick.apk"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "key", Usage: "the file with key and certificate"},
			keyFileFlags[0], keyFileFlags[1],
			&cli.BoolFlag{Name: "throw-away", Usage: "sign with a key that is made for this, and kept nowhere"},
			&cli.StringSliceFlag{Name: "profile", Usage: "a provisioning profile; for several programs, several"},
			&cli.StringMapFlag{Name: "entitlements",
				Usage: "ID=FILE: what the program of iOS with this id asks for; may be repeated"},
			&cli.StringFlag{Name: "into", Usage: "the folder of the signed files", Required: true},
			&cli.BoolFlag{Name: "beside", Usage: "make the .idsig file of an APK, by which devices install while they load it"},
			terminal.JSONFlag,
		},
		Action: signFiles,
	}
}

// signedFile is what the command answers of one.
type signedFile struct {
	From     string          `json:"from"`
	ID       string          `json:"id"`
	Version  string          `json:"version"`
	Build    string          `json:"build"`
	Files    []string        `json:"files"`
	Schemes  []string        `json:"schemes"`
	Programs []bundle.Signed `json:"programs,omitempty"`
}

func signFiles(ctx context.Context, c *cli.Command) error {
	files := c.Args().Slice()
	if len(files) == 0 {
		return terminal.Usage("say what to sign: piston sign --key FILE --into FOLDER FILE...")
	}
	var targets []packaging.Target
	for _, file := range files {
		t, err := packaging.Look(file)
		if err != nil {
			return terminal.Ending(terminal.ExitFailed, fmt.Errorf("%s: %w", file, err))
		}
		targets = append(targets, t)
	}
	o := packaging.Options{Into: c.String("into"), By: "Gentle Piston", Beside: c.Bool("beside"), Now: time.Now()}
	var err error
	if o.Signer, err = keyOf(c); err != nil {
		return err
	}
	if o.Entitlements, err = packaging.ReadEntitlements(c.StringMap("entitlements")); err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	if o.Profiles, err = profilesOf(c.StringSlice("profile")); err != nil {
		return err
	}
	var all []signedFile
	for _, t := range targets {
		made, err := t.Sign(ctx, o)
		if err != nil {
			return terminal.Ending(terminal.ExitFailed, fmt.Errorf("%s: %w", t.Path, err))
		}
		all = append(all, signedFile{t.Path, t.ID, t.Version, t.Build, made.Files, made.Schemes, made.Programs})
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), all)
	}
	s := terminal.NewScreen(terminal.Out(c))
	for _, f := range all {
		s.Line("%s  %s %s (%s)  %s", s.In(terminal.Strong, f.Files[0]), f.ID, f.Version, f.Build,
			s.In(terminal.Faint, strings.Join(f.Schemes, " ")))
		for _, p := range f.Programs {
			if p.Path != "" {
				s.Line("  %s %s", p.Path, s.In(terminal.Faint, p.Identifier))
			}
		}
	}
	s.Line("%s", s.In(terminal.Faint, "by "+o.Signer.Leaf().Subject.String()+", SHA-256 "+
		identity.FingerprintsOf(o.Signer.Leaf()).SHA256))
	return nil
}

// keyOf reads the key one said.
func keyOf(c *cli.Command) (s sign.Signer, err error) {
	switch {
	case c.Bool("throw-away") == (c.String("key") != ""):
		return s, terminal.Usage("say with what to sign: --key FILE, or --throw-away")
	case c.Bool("throw-away"):
		return identity.Make(identity.P256, "Throw-away key of piston sign", 1, time.Now())
	}
	f, err := keyFileOf(c, c.String("key"))
	if err != nil {
		return s, err
	}
	if s, err = identity.Import(f); err != nil {
		return s, terminal.Ending(terminal.ExitFailed, fmt.Errorf("%s: %w", c.String("key"), err))
	}
	return s, nil
}

const askFile = "Password of the file: "

// passwordsOf asks for the password of a file or a token, and that of the key in it.
func passwordsOf(ask string, own bool) (file, key string, err error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		if file, err = askSecret(ask); err == nil && own {
			key, err = askSecret("Password of the key: ")
		}
		return file, key, err
	}
	text, err := io.ReadAll(io.LimitReader(os.Stdin, 4096))
	lines := strings.Split(strings.ReplaceAll(string(text), "\r\n", "\n"), "\n")
	if own && len(lines) > 1 {
		key = lines[1]
	}
	return lines[0], key, err
}

// readWhole reads a file of at most so many bytes.
func readWhole(name string, most int64) ([]byte, error) {
	b, err := packaging.ReadWhole(name, most)
	if err != nil {
		return nil, terminal.Ending(terminal.ExitFailed, err)
	}
	return b, nil
}

func profilesOf(names []string) (list []*bundle.Profile, err error) {
	for _, name := range names {
		raw, err := readWhole(name, 1<<20)
		if err != nil {
			return nil, err
		}
		d, err := profile.ReadAll(raw)
		if err != nil {
			return nil, terminal.Ending(terminal.ExitFailed, fmt.Errorf("%s: %w", filepath.Base(name), err))
		}
		list = append(list, &bundle.Profile{Details: d, Raw: raw})
	}
	return list, nil
}
