package cli

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/record"
)

// identitySettings are the flags that say something about an identity.
var identitySettings = []cli.Flag{
	&cli.StringFlag{Name: "note", Usage: "for people: where it is registered, who knows more"},
	&cli.StringSliceFlag{Name: "app", Usage: "an application id it may sign; none: any"},
	&cli.StringSliceFlag{Name: "pipeline", Usage: "a pipeline that may sign with it; none: any"},
	&cli.StringSliceFlag{Name: "branch", Usage: "a branch whose runs may"},
	&cli.StringSliceFlag{Name: "tag", Usage: "a tag whose runs may"},
}

func platformOf(c *cli.Command) (string, error) {
	p := c.String("platform")
	if p != "android" && p != "ios" {
		return "", terminal.Usage("say for which platform: --platform android, or ios")
	}
	return p, nil
}

func identityCommand() *cli.Command {
	return &cli.Command{
		Name:  "identity",
		Usage: "keep signing keys, which no runner is ever given",
		Description: "A step with sign has the service sign with them. Which apps, pipelines, branches and tags each is " +
			"for is judged at every\nsignature.",
		Commands: []*cli.Command{
			{
				Name: "make", Usage: "make a key", ArgsUsage: "PROJECT NAME",
				Description: "Made by the service, and known to nobody else: export it once, and keep the copy elsewhere. For an " +
					"identity that is there\nalready it is its next key.\n\n" +
					terminal.Example("piston identity make tidewick play --platform android --branch main"),
				Flags: append([]cli.Flag{platformFlag,
					&cli.StringFlag{Name: "key", Usage: "rsa-4096, rsa-3072 or p256", Value: string(identity.RSA4096)},
					&cli.StringFlag{Name: "subject", Usage: "the name in the certificate", DefaultText: "PROJECT NAME"},
					&cli.IntFlag{Name: "years", Usage: "how long the certificate is good", Value: identity.DefaultYears},
					terminal.JSONFlag}, identitySettings...),
				Action: terminal.Asking(makeIdentity, "PROJECT", "NAME"),
			},
			{
				Name: "rotate", Usage: "make a key that follows the one that is there, with a proof of that",
				ArgsUsage: "PROJECT NAME [FILE]",
				Description: "Of Android. Devices from Android 9 take an app that is signed by the new key for the same one; " +
					"older ones, and what was\nuploaded to a store, go by the first key, which stays.\n\n" +
					"With FILE the next key is that of a PKCS #12, JKS or PEM file.\n\n" +
					terminal.Example("piston identity rotate tidewick play", "piston identity rotate tidewick play next.p12"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "key", Usage: "rsa-4096, rsa-3072 or p256", Value: string(identity.RSA4096)},
					&cli.StringFlag{Name: "subject", Usage: "the name in the certificate", DefaultText: "PROJECT NAME"},
					&cli.IntFlag{Name: "years", Usage: "how long the certificate is good", Value: identity.DefaultYears},
					keyFileFlags[0], keyFileFlags[1], terminal.JSONFlag},
				Action: terminal.Asking(rotateIdentity, "PROJECT", "NAME", "[FILE]"),
			},
			{
				Name: "take", Usage: "take a key over from a file, or use one in a token", ArgsUsage: "PROJECT NAME [FILE]",
				Description: "A PKCS #12, JKS or PEM file. Its password is asked for, or the first line of standard input.\n\n" +
					"With --token the key stays in a token (HSM) of the service, which was started with --token-module; what is " +
					"asked for is\nits PIN, and FILE is the certificate as PEM when the token has none.\n\n" +
					terminal.Example("piston identity take tidewick play upload.jks --alias upload --platform android",
						"piston identity take tidewick play --token tidewick --token-key upload --platform android"),
				Flags: append([]cli.Flag{platformFlag, keyFileFlags[0], keyFileFlags[1],
					&cli.StringFlag{Name: "token", Usage: "the label of the token that the key is in"},
					&cli.StringFlag{Name: "token-key", Usage: "the label of the key in it"},
					terminal.JSONFlag}, identitySettings...),
				Action: terminal.Asking(takeIdentity, "PROJECT", "NAME", "[FILE]"),
			},
			{
				Name: "list", Usage: "list identities, without their keys", ArgsUsage: "PROJECT",
				Description: terminal.Example("piston identity list tidewick"),
				Flags:       terminal.PageFlags, Action: terminal.Asking(listIdentities, "PROJECT"),
			},
			{
				Name: "show", Usage: "tell of one, without its key", ArgsUsage: "PROJECT NAME",
				Description: terminal.Example("piston identity show tidewick play",
					"piston identity show tidewick play --certificate > play.pem"),
				Flags: []cli.Flag{&cli.BoolFlag{Name: "certificate", Usage: "answer with the certificates as PEM, nothing else"},
					terminal.JSONFlag},
				Action: terminal.Asking(showIdentity, "PROJECT", "NAME"),
			},
			{
				Name: "change", Usage: "say what one is for", ArgsUsage: "PROJECT NAME",
				Description: "What is not said stays; an empty value takes away.\n\n" +
					terminal.Example("piston identity change tidewick play --app net.tidewick.almanac --branch main"),
				Flags:  append([]cli.Flag{terminal.JSONFlag}, identitySettings...),
				Action: terminal.Asking(changeIdentity, "PROJECT", "NAME"),
			},
			{
				Name: "profile", Usage: "lay a provisioning profile with one", ArgsUsage: "PROJECT NAME FILE",
				Description: "One for the same app gives way to it.\n\n" +
					terminal.Example("piston identity profile tidewick store almanac.mobileprovision"),
				Flags: []cli.Flag{terminal.JSONFlag}, Action: terminal.Asking(addProfile, "PROJECT", "NAME", "FILE"),
			},
			{
				Name: "export", Usage: "take a copy of a key away, under a passphrase", ArgsUsage: "PROJECT NAME FILE",
				Description: "A PKCS #12 file, as keytool and openssl read it. The passphrase is asked for, or the first line of " +
					"standard input. Who took\nit is written down.\n\n" +
					terminal.Example("piston identity export tidewick play play-backup.p12"),
				Flags: []cli.Flag{terminal.JSONFlag}, Action: terminal.Asking(exportIdentity, "PROJECT", "NAME", "FILE"),
			},
			{
				Name: "drop", Usage: "remove one with all its keys", ArgsUsage: "PROJECT NAME",
				Description: "One that was made by the service is exported first, or it is refused.\n\n" +
					terminal.Example("piston identity drop tidewick old"),
				Flags: []cli.Flag{terminal.JSONFlag},
				Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					return told(c, map[string]string{"dropped": args[1]}, cl.DropIdentity(ctx, args[0], args[1]),
						fmt.Sprintf("Identity %s is removed, with its keys.", args[1]))
				}, "PROJECT", "NAME"),
			},
			{
				Name: "apps", Usage: "list by which certificates a project's apps are signed", ArgsUsage: "PROJECT",
				Description: terminal.Example("piston identity apps tidewick"),
				Flags:       []cli.Flag{terminal.JSONFlag}, Action: terminal.Asking(listCertificates, "PROJECT"),
			},
			{
				Name: "allow", Usage: "say that an app may be signed by another certificate from now on",
				ArgsUsage: "PROJECT APP SHA-256",
				Description: "Devices refuse an update that is signed by another, unless the keys were rotated.\n\n" +
					terminal.Example("piston identity allow tidewick net.tidewick.almanac 9A:0C:… --platform android"),
				Flags:  []cli.Flag{platformFlag, terminal.JSONFlag},
				Action: terminal.Asking(allowCertificate, "PROJECT", "APP", "SHA-256"),
			},
		},
	}
}

// whatFor is what the flags say about an identity; nil when nothing.
func whatFor(c *cli.Command) *api.IdentitySettings {
	var in api.IdentitySettings
	said := false
	if c.IsSet("note") {
		note := c.String("note")
		in.Note, said = &note, true
	}
	list := func(name string) []string {
		return strings.Fields(strings.Join(c.StringSlice(name), " "))
	}
	if c.IsSet("app") {
		apps := list("app")
		in.Apps, said = &apps, true
	}
	if c.IsSet("pipeline") || c.IsSet("branch") || c.IsSet("tag") {
		in.Scope, said = &access.Scope{Pipelines: list("pipeline"), Branches: list("branch"), Tags: list("tag")}, true
	}
	if !said {
		return nil
	}
	return &in
}

// keyToMake is what the flags say of a key.
func keyToMake(c *cli.Command, args []string) *api.MakeKey {
	subject := c.String("subject")
	if subject == "" {
		subject = args[0] + " " + args[1]
	}
	return &api.MakeKey{Algorithm: identity.Algorithm(c.String("key")), Name: subject, Years: c.Int("years")}
}

func makeIdentity(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	platform, err := platformOf(c)
	if err != nil {
		return err
	}
	i, err := cl.SetIdentity(ctx, args[0], args[1], api.NewIdentity{Platform: platform, Settings: whatFor(c),
		Make: keyToMake(c, args)})
	return oneIdentity(c, i, err)
}

func rotateIdentity(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	in := api.NewIdentity{Platform: "android", Rotate: true}
	if len(args) > 2 && args[2] != "" {
		f, err := keyFileOf(c, args[2])
		if err != nil {
			return err
		}
		in.Take = &f
	} else {
		in.Make = keyToMake(c, args)
	}
	i, err := cl.SetIdentity(ctx, args[0], args[1], in)
	return oneIdentity(c, i, err)
}

// keyFileFlags are those of a file with a key.
var keyFileFlags = []cli.Flag{
	&cli.StringFlag{Name: "alias", Usage: "which key, when the file holds several"},
	&cli.BoolFlag{Name: "own-password", Usage: "the key has a password of its own: the second line of standard input"},
}

// keyFileOf reads a file with a key, and asks for its password.
func keyFileOf(c *cli.Command, name string) (f identity.File, err error) {
	f.Alias = c.String("alias")
	if f.Data, err = readWhole(name, identity.MaxFile); err == nil {
		f.Password, f.KeyPassword, err = passwordsOf(askFile, c.Bool("own-password"))
	}
	return f, err
}

func takeIdentity(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	platform, err := platformOf(c)
	if err != nil {
		return err
	}
	if c.IsSet("token") {
		return takeToken(ctx, c, cl, args, platform)
	}
	if len(args) < 3 || args[2] == "" {
		return terminal.Usage("say which file the key is in, or --token")
	}
	f, err := keyFileOf(c, args[2])
	if err != nil {
		return err
	}
	i, err := cl.SetIdentity(ctx, args[0], args[1], api.NewIdentity{Platform: platform, Settings: whatFor(c), Take: &f})
	return oneIdentity(c, i, err)
}

// takeToken uses a key in a token. Its PIN is asked for.
func takeToken(ctx context.Context, c *cli.Command, cl *client.Client, args []string, platform string) error {
	t := api.TokenKey{Token: c.String("token"), Key: c.String("token-key")}
	if t.Token == "" || t.Key == "" {
		return terminal.Usage("say which token, and which key in it: --token LABEL --token-key LABEL")
	}
	if len(args) > 2 && args[2] != "" {
		text, err := readWhole(args[2], 64<<10)
		if err != nil {
			return err
		}
		t.Certificates = string(text)
	}
	var err error
	if t.PIN, _, err = passwordsOf("PIN of the token: ", false); err != nil {
		return err
	}
	i, err := cl.SetIdentity(ctx, args[0], args[1], api.NewIdentity{Platform: platform, Settings: whatFor(c), Token: &t})
	return oneIdentity(c, i, err)
}

func changeIdentity(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	in := whatFor(c)
	if in == nil {
		return terminal.Usage("say what to change: --note, --app, --pipeline, --branch or --tag")
	}
	i, err := cl.ChangeIdentity(ctx, args[0], args[1], *in)
	return oneIdentity(c, i, err)
}

func addProfile(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	data, err := readWhole(args[2], 1<<20)
	if err != nil {
		return err
	}
	i, err := cl.AddProfile(ctx, args[0], args[1], api.NewProfile{Data: data})
	return oneIdentity(c, i, err)
}

func showIdentity(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	i, err := cl.Identity(ctx, args[0], args[1])
	if err == nil && c.Bool("certificate") {
		_, err = fmt.Fprint(terminal.Out(c), i.Certificates)
		return err
	}
	return oneIdentity(c, i, err)
}

func oneIdentity(c *cli.Command, i api.Identity, err error) error {
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, i, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	s.Line("%s  %s, revision %d, %s", s.In(terminal.Strong, i.Name), i.Platform, i.Revision,
		s.In(terminal.Faint, "set by "+i.By+" "+terminal.Ago(i.Set)))
	s.Line("  %-9s%s, %s, until %s", "key", i.Key, i.Subject, i.Ends.Format(time.DateOnly))
	s.Line("  %-9s%s", "SHA-256", i.Fingerprints.SHA256)
	s.Line("  %-9s%s", "SHA-1", i.Fingerprints.SHA1)
	for _, former := range i.Follows {
		s.Line("  %-9s%s", "follows", s.In(terminal.Faint, former))
	}
	s.Line("  %-9s%s", "for", identityFor(i))
	for _, p := range i.Profiles {
		s.Line("  %-9s%s, for %s of %s, until %s", "profile", p.Name, p.App, p.Team, p.Ends.Format(time.DateOnly))
	}
	if i.Note != "" {
		s.Line("  %-9s%s", "note", i.Note)
	}
	if i.Token != "" {
		s.Line("  %-9sin the token %s, which it never leaves", "kept", i.Token)
	}
	if i.Exported != nil {
		s.Line("  %-9s%s", "copy", s.In(terminal.Faint, "taken by "+i.ExportedBy+" "+terminal.Ago(*i.Exported)))
	}
	for _, w := range i.Warnings {
		s.Line("  %s", s.In(terminal.Yellow, "! "+w))
	}
	return nil
}

// identityFor says what one is for.
func identityFor(i api.Identity) string {
	var parts []string
	for _, p := range []struct {
		one  string
		list []string
	}{{"apps", i.Apps}, {"pipelines", i.Scope.Pipelines}, {"branches", i.Scope.Branches}, {"tags", i.Scope.Tags}} {
		if len(p.list) > 0 {
			parts = append(parts, p.one+" "+strings.Join(p.list, ", "))
		}
	}
	if len(parts) == 0 {
		return "any app and run of the project"
	}
	return strings.Join(parts, "; ")
}

func listIdentities(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	list, err := cl.Identities(ctx, args[0], terminal.PageOf(c))
	return terminal.ListedPage(c, list, err, []string{"IDENTITY", "FOR", "KEY", "UNTIL", "SHA-256", ""},
		func(s *terminal.Screen, i api.Identity) []string {
			return []string{i.Name, i.Platform, i.Key, i.Ends.Format(time.DateOnly), i.Fingerprints.SHA256[:23] + "…",
				s.In(terminal.Yellow, terminal.Short(strings.Join(i.Warnings, "; "), 60))}
		}, "No identities yet: piston identity make, or take", func(i api.Identity) string { return i.Name })
}

func exportIdentity(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	if _, err := os.Lstat(args[2]); !errors.Is(err, fs.ErrNotExist) {
		return terminal.Usage("%s is there already, and is not written over", args[2])
	}
	passphrase, _, err := passwordsOf("Passphrase for the copy: ", false)
	if err != nil {
		return err
	}
	out, err := cl.ExportIdentity(ctx, args[0], args[1], api.IdentityExport{Passphrase: passphrase})
	if err != nil {
		return terminal.OrJSON(c, nil, err)
	}
	f, err := os.OpenFile(args[2], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err == nil {
		_, err = f.Write(out.Data)
		err = errors.Join(err, f.Close())
	}
	return told(c, map[string]string{"file": args[2]}, err, fmt.Sprintf("A copy of the key of %s is in %s. Keep it, and "+
		"its passphrase, away from this server.", args[1], args[2]))
}

func listCertificates(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	list, err := cl.AppCertificates(ctx, args[0])
	return terminal.Listed(c, list, err, []string{"APP", "FOR", "SINCE RUN", "SHA-256", "MAY BECOME"},
		func(s *terminal.Screen, a api.AppCertificate) []string {
			return []string{a.App, a.Platform, fmt.Sprint(a.Run), a.Fingerprint, a.Next}
		}, "Nothing was signed yet.")
}

func allowCertificate(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	platform, err := platformOf(c)
	if err != nil {
		return err
	}
	in := api.AllowCertificate{Platform: platform, App: args[1], Fingerprint: strings.ToUpper(args[2])}
	if raw, err := hex.DecodeString(strings.ReplaceAll(in.Fingerprint, ":", "")); err != nil || len(raw) != 32 {
		return terminal.Usage("%q is no SHA-256 of a certificate: piston identity show says it", args[2])
	}
	return told(c, in, cl.AllowCertificate(ctx, args[0], in),
		fmt.Sprintf("%s may be signed by that certificate from now on; the next signature makes it so.", in.App))
}

func signaturesCommand() *cli.Command {
	return &cli.Command{
		Name: "signatures", Usage: "list who signed what with which key, for which run", ArgsUsage: "PROJECT",
		Description: "The newest first. What is listed stays for ever.\n\n" +
			terminal.Example("piston signatures tidewick --app net.tidewick.almanac", "piston signatures tidewick --run 41"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "identity", Usage: "only by this one"},
			&cli.StringFlag{Name: "app", Usage: "only of this application id"},
			&cli.Int64Flag{Name: "run", Usage: "only for this run", HideDefault: true},
			&cli.Int64Flag{Name: "before", Usage: "what a page before said under More", HideDefault: true},
			terminal.LimitFlag(20, 1000), terminal.JSONFlag},
		Action: terminal.Asking(showSignatures, "PROJECT"),
	}
}

func showSignatures(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	page, err := cl.Signatures(ctx, args[0], api.SignatureFilter{Identity: c.String("identity"), App: c.String("app"),
		Run: record.RunNumber(c.Int64("run")), Before: c.Int64("before"), Limit: c.Int("limit")})
	if err != nil || c.Bool("json") {
		return terminal.OrJSON(c, page, err)
	}
	s := terminal.NewScreen(terminal.Out(c))
	var rows [][]string
	for _, g := range page.Signatures {
		rows = append(rows, []string{terminal.Ago(g.At), g.File, g.App, fmt.Sprintf("%s %d", g.Identity, g.Revision),
			g.Fingerprint[:11] + "…", fmt.Sprintf("%d %s", g.Run, g.Pipeline), g.Branch,
			fmt.Sprintf("%.8s", g.Commit), g.Runner})
	}
	if len(rows) == 0 {
		s.Line("Nothing was signed yet: a step with sign asks for the first.")
		return nil
	}
	s.Table([]string{"WHEN", "FILE", "APP", "IDENTITY", "SHA-256", "RUN", "BRANCH", "COMMIT", "RUNNER"}, rows)
	if page.Next > 0 {
		s.Line("%s", s.In(terminal.Faint, fmt.Sprintf("More: --before %d", page.Next)))
	}
	return nil
}
