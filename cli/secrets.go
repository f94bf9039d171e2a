package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/service/secrets"
)

// settingFlags say something about a secret besides its value.
var settingFlags = []cli.Flag{
	&cli.StringFlag{Name: "note", Usage: "for humans: what it opens, where to get a new one"},
	&cli.StringFlag{Name: "expires",
		Usage: "day on which its value ceases to be good, such as 2027-01-31; never for none"},
	&cli.StringSliceFlag{Name: "pipeline", Usage: "give it to runs of these pipelines only (glob); may be repeated"},
	&cli.StringSliceFlag{Name: "branch", Usage: "give it to runs of these branches only (glob); may be repeated"},
	&cli.StringSliceFlag{Name: "tag", Usage: "give it to runs of these tags only (glob); may be repeated"},
	&cli.BoolFlag{Name: "any", Usage: "give it to runs of any pipeline, branch and tag"},
}

func secretCommand() *cli.Command {
	value := &cli.StringFlag{Name: "file", Usage: "read the value from this file; steps get it as a file"}
	return &cli.Command{
		Name:  "secret",
		Usage: "set, protect, share, list and drop a project's secrets",
		Commands: []*cli.Command{
			{
				Name:      "set",
				Usage:     "set a secret; its value is never shown again",
				ArgsUsage: "PROJECT NAME",
				Description: "The value is asked for, or read from standard input when that is no terminal, or from a file with " +
					"--file.\n" +
					"It is never an argument: those are seen by everyone on the machine and stay in the shell's history.\n" +
					"NAME may be SET:MEMBER, such as SERVICES:harbour: a pipeline then picks by a variant's value, " +
					"SERVICES:${FLAVOUR}.\n\n" +
					terminal.Example("piston secret set tidewick DEPOT_TOKEN",
						"piston secret set tidewick STORE_KEY --file store.json --tag 'v*' --expires 2027-01-31"),
				Flags:  append([]cli.Flag{value, terminal.JSONFlag}, settingFlags...),
				Action: setSecret,
			},
			{
				Name: "change", Usage: "say something about a secret without a new value: note, expiry, which runs are given it",
				ArgsUsage: "PROJECT NAME",
				Description: terminal.Example("piston secret change tidewick STORE_KEY --tag 'v*' --pipeline release",
					"piston secret change tidewick DEPOT_TOKEN --any --expires never"),
				Flags: append([]cli.Flag{terminal.JSONFlag}, settingFlags...), Action: terminal.Asking(changeSecret,
					"PROJECT", "NAME"),
			},
			{
				Name: "share", Usage: "let other projects use a secret", ArgsUsage: "PROJECT NAME",
				Description: "You must be a keeper of those projects. Without --with nobody else may use it any more.\n\n" +
					terminal.Example("piston secret share tidewick DEPOT_TOKEN --with tidewick-beta"),
				Flags: []cli.Flag{&cli.StringSliceFlag{Name: "with", Usage: "a project; may be repeated"}, terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					with := append([]string{}, c.StringSlice("with")...)
					s, err := cl.ChangeSecret(ctx, args[0], args[1], api.SecretSettings{Shared: &with})
					sentence := fmt.Sprintf("Secret %s is for %s alone.", args[1], args[0])
					if len(s.Shared) > 0 {
						sentence = fmt.Sprintf("Secret %s of %s may be used by %s, too.", args[1], args[0], strings.Join(s.Shared, ", "))
					}
					return told(c, s, err, sentence)
				}, "PROJECT", "NAME"),
			},
			{
				Name: "list", Usage: "list secrets, without their values", ArgsUsage: "PROJECT",
				Description: terminal.Example("piston secret list tidewick"),
				Flags:       terminal.PageFlags, Action: terminal.Asking(listSecrets, "PROJECT"),
			},
			{
				Name: "history", Usage: "list the values a secret has had, without the values", ArgsUsage: "PROJECT NAME",
				Description: "Ten are kept.\n\n" + terminal.Example("piston secret history tidewick DEPOT_TOKEN"),
				Flags:       []cli.Flag{terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					list, err := cl.Revisions(ctx, args[0], args[1])
					return terminal.Listed(c, list, err, []string{"REVISION", "KIND", "BYTES", "SET", "BY", ""},
						func(s *terminal.Screen, r api.SecretRevision) []string {
							from := ""
							if r.Restored > 0 {
								from = s.In(terminal.Faint, fmt.Sprintf("value of revision %d", r.Restored))
							}
							return []string{strconv.Itoa(r.Revision), string(r.Kind), sizeOf(r.Size), terminal.Ago(r.Set), r.By, from}
						}, "")
				}, "PROJECT", "NAME"),
			},
			{
				Name: "restore", Usage: "put an earlier value back, as the next revision", ArgsUsage: "PROJECT NAME REVISION",
				Description: terminal.Example("piston secret restore tidewick DEPOT_TOKEN 3"),
				Flags:       []cli.Flag{terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					n, err := strconv.Atoi(args[2])
					if err != nil || n < 1 {
						return terminal.Usage("%q is no revision; piston secret history %s %s shows them", args[2], args[0], args[1])
					}
					s, err := cl.RestoreSecret(ctx, args[0], args[1], n)
					return told(c, s, err,
						fmt.Sprintf("Secret %s of %s has the value of revision %d again (revision %d).", args[1], args[0], n, s.Revision))
				}, "PROJECT", "NAME", "REVISION"),
			},
			{
				Name: "drop", Usage: "remove a secret with all its values; of one that another project shares, the sharing",
				ArgsUsage: "PROJECT NAME", Description: terminal.Example("piston secret drop tidewick DEPOT_TOKEN"),
				Flags: []cli.Flag{terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					return told(c, map[string]string{"dropped": args[1]}, cl.DropSecret(ctx, args[0], args[1]),
						fmt.Sprintf("Secret %s of %s is removed.", args[1], args[0]))
				}, "PROJECT", "NAME"),
			},
		},
	}
}

// settingsOf reads what is said about a secret; nil when nothing is.
func settingsOf(c *cli.Command) (*api.SecretSettings, error) {
	var in api.SecretSettings
	said := false
	if c.IsSet("note") {
		text := c.String("note")
		in.Note, said = &text, true
	}
	if day := c.String("expires"); day != "" {
		var at time.Time
		if day != "never" {
			var err error
			if at, err = time.Parse(time.DateOnly, day); err != nil {
				return nil, terminal.Usage("--expires %q: write a day as 2027-01-31, or never", day)
			}
		}
		in.Expires, said = &at, true
	}
	scope := access.Scope{Pipelines: c.StringSlice("pipeline"), Branches: c.StringSlice("branch"),
		Tags: c.StringSlice("tag")}
	narrowed := scope.Protects()
	if c.Bool("any") && narrowed {
		return nil, terminal.Usage("--any does not go with --pipeline, --branch or --tag")
	}
	if narrowed || c.Bool("any") {
		in.Scope, said = &scope, true
	}
	if !said {
		return nil, nil
	}
	return &in, nil
}

func setSecret(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 2 {
		return terminal.Usage(
			"piston secret set takes PROJECT NAME; the value is asked for, or comes by --file or standard input, " +
				"never as an argument")
	}
	args, err := terminal.Words(c, "PROJECT", "NAME")
	if err != nil {
		return err
	}
	cl, err := terminal.Connect()
	if err != nil {
		return err
	}
	settings, err := settingsOf(c)
	if err != nil {
		return err
	}
	in, err := secretValue(c, args[1])
	if err != nil {
		return err
	}
	in.Settings = settings
	s, err := cl.SetSecret(ctx, args[0], args[1], in)
	return told(c, s, err,
		fmt.Sprintf("Secret %s of %s is set (%s, revision %d)%s.", s.Name, args[0], s.Kind, s.Revision,
			forRuns(s, ", given to ")))
}

func changeSecret(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	in, err := settingsOf(c)
	if err == nil && in == nil {
		err = terminal.Usage("say what to change: --note, --expires, --pipeline, --branch, --tag or --any")
	}
	if err != nil {
		return err
	}
	s, err := cl.ChangeSecret(ctx, args[0], args[1], *in)
	return told(c, s, err, fmt.Sprintf("Secret %s of %s is given to %s.", args[1], args[0], forRuns(s, "")))
}

// forRuns says which runs are given a secret.
func forRuns(s api.Secret, before string) string {
	var parts []string
	for _, p := range []struct {
		word  string
		globs []string
	}{{"pipeline", s.Scope.Pipelines}, {"branch", s.Scope.Branches}, {"tag", s.Scope.Tags}} {
		if len(p.globs) > 0 {
			parts = append(parts, p.word+" "+strings.Join(p.globs, ", "))
		}
	}
	if len(parts) == 0 {
		return before + "any run"
	}
	return before + strings.Join(parts, "; ")
}

// secretValue gets a secret's value from a file, from a person, or from standard input.
func secretValue(c *cli.Command, name string) (in api.NewSecret, err error) {
	in.Kind = api.TextSecret
	switch {
	case c.String("file") != "":
		in.Kind = api.FileSecret
		in.Value, err = readLimited(c.String("file"))
	case term.IsTerminal(int(os.Stdin.Fd())):
		var text string
		text, err = askSecret("Value of " + name + ": ")
		in.Value = []byte(text)
	default:
		in.Value, err = io.ReadAll(io.LimitReader(os.Stdin, secrets.MaxSecret+3)) // a line's end is not part of it
		if in.Value = trimLineEnd(in.Value); err == nil && len(in.Value) > secrets.MaxSecret {
			err = tooLarge("what came on standard input")
		}
	}
	return in, err
}

func tooLarge(what string) error {
	return terminal.Ending(terminal.ExitUsage,
		errors.New(what+" is larger than a secret may be (1 MiB): put it, encrypted, where the build can fetch it, and "+
			"set the key to it as the secret"))
}

// trimLineEnd drops the one line break that echo and editors put at the end.
func trimLineEnd(b []byte) []byte {
	if n := len(b); n > 0 && b[n-1] == '\n' {
		b = b[:n-1]
		if n := len(b); n > 0 && b[n-1] == '\r' {
			b = b[:n-1]
		}
	}
	return b
}

func readLimited(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > secrets.MaxSecret {
		return nil, tooLarge(path)
	}
	return os.ReadFile(path)
}

func sizeOf(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func listSecrets(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	list, err := cl.Secrets(ctx, args[0], terminal.PageOf(c))
	return terminal.ListedPage(c, list, err,
		[]string{"SECRET", "KIND", "REV", "SET", "BY", "GIVEN TO", "LAST USED", "EXPIRES", "NOTE"},
		func(s *terminal.Screen, v api.Secret) []string {
			used := "never"
			if v.Used != nil {
				used = terminal.Ago(*v.Used)
				if v.UsedRun > 0 {
					used = fmt.Sprintf("run %d", v.UsedRun)
					if v.UsedIn != args[0] {
						used += " of " + v.UsedIn
					}
				}
			}
			note := terminal.Short(v.Note, 40)
			switch {
			case v.Home != args[0]:
				note = "from " + v.Home + "  " + note
			case len(v.Shared) > 0:
				note = "also for " + strings.Join(v.Shared, ", ") + "  " + note
			}
			return []string{s.In(terminal.Strong, v.Name), string(v.Kind), strconv.Itoa(v.Revision),
				terminal.Ago(v.Updated), v.By,
				terminal.Short(forRuns(v, ""), 50), used, expiry(s, v.Expires), s.In(terminal.Faint, note)}
		}, fmt.Sprintf("No secrets yet: piston secret set %s NAME", args[0]), func(v api.Secret) string { return v.Name })
}

// expiry says when something ceases to be good, and how soon that is.
func expiry(s *terminal.Screen, at *time.Time) string {
	if at == nil {
		return "never"
	}
	day := at.UTC().Format(time.DateOnly)
	switch left := time.Until(*at); {
	case left <= 0:
		return s.In(terminal.Red, "expired "+day)
	case left < 14*24*time.Hour:
		return s.In(terminal.Magenta, fmt.Sprintf("%s (%d days)", day, int(left.Hours()/24)))
	}
	return day
}
