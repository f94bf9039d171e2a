package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/letter"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/host"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/service/people"
)

func hostFlags(home, listen string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "home", Usage: "data folder", Value: home, Sources: cli.EnvVars("PISTON_HOME")},
		&cli.StringFlag{Name: "listen", Usage: "address and port of the interface and the console", Value: listen},
		&cli.StringFlag{Name: "database",
			Usage: "use this PostgreSQL (15 or later) instead of starting one; better in PISTON_DATABASE than here, when it " +
				"holds a password", Sources: cli.EnvVars("PISTON_DATABASE")},
		&cli.BoolFlag{Name: "take-records",
			Usage: "once: the database was another data folder's, which is gone for good with its artifacts and logs"},
		&cli.StringFlag{Name: "master-file",
			Usage: "file with the key that secrets are encrypted under (age identities, the one in use first); default: " +
				"secrets.key in the data folder. PISTON_MASTER, or systemd's credential piston-master, wins over it"},
		&cli.StringFlag{Name: "token-module", Sources: cli.EnvVars("PISTON_TOKEN_MODULE"),
			Usage: "the PKCS #11 library of a token (HSM) that signing keys are in, such as /usr/lib/softhsm/libsofthsm2.so"},
		&cli.StringFlag{Name: "tls-cert",
			Usage: "file with TLS's certificate, and those it is signed by; read anew when it changes"},
		&cli.StringFlag{Name: "tls-key", Usage: "file with the certificate's key"},
		&cli.BoolFlag{Name: "behind-proxy", Usage: "a proxy in front of it speaks TLS: listen beyond loopback without"},
		&cli.StringSliceFlag{Name: "trust-proxy",
			Usage: "addresses of proxies whose X-Forwarded-For is believed, such as 10.0.0.0/8; may be repeated"},
		&cli.StringFlag{Name: "public", Usage: "address by which people reach it, such as https://builds.tidewick.example",
			Sources: cli.EnvVars("PISTON_PUBLIC")},
		&cli.StringFlag{Name: "issuer", Usage: "OpenID Connect issuer at which people may sign in",
			Sources: cli.EnvVars("PISTON_ISSUER")},
		&cli.StringFlag{Name: "issuer-name", Usage: "what to call it on the sign-in page"},
		&cli.StringFlag{Name: "issuer-client", Usage: "client id there; the client's secret comes by PISTON_ISSUER_SECRET",
			Sources: cli.EnvVars("PISTON_ISSUER_CLIENT")},
		&cli.StringFlag{Name: "issuer-groups", Usage: "claim of the ID token that lists the groups somebody is in",
			Value: "groups"},
		&cli.IntFlag{Name: "slots", Usage: "jobs this machine's own runner takes at a time; 0 for no runner", Value: 2},
		&cli.StringFlag{Name: "isolation", Usage: "how its runner keeps steps apart: bubblewrap or none",
			Value: "bubblewrap"},
		&cli.StringFlag{Name: "network",
			Usage:   "which network it gives steps: outside, any or host; see piston runner --help",
			Sources: cli.EnvVars("PISTON_RUNNER_NETWORK")},
		&cli.StringSliceFlag{Name: "let-through", Usage: "what inside it lets repositories and steps reach; may be repeated",
			Sources: cli.EnvVars("PISTON_RUNNER_LET_THROUGH")},
		&cli.StringFlag{Name: "reserve",
			Usage: "how much of the disk is kept free: with less no job is handed out, and caches are given up",
			Value: quantity.Bytes(ground.DefaultReserve)},
		&cli.StringFlag{Name: "mail-server", Sources: cli.EnvVars("PISTON_MAIL_SERVER"),
			Usage: "the server that mail is sent by, as HOST:PORT; its password comes by PISTON_MAIL_PASSWORD"},
		&cli.StringFlag{Name: "mail-from", Usage: "the address that mail comes from",
			Sources: cli.EnvVars("PISTON_MAIL_FROM")},
		&cli.StringFlag{Name: "mail-user", Usage: "who signs in there", Sources: cli.EnvVars("PISTON_MAIL_USER")},
		&cli.BoolFlag{Name: "mail-plain", Usage: "speak with it without TLS; for a server on this machine"},
		&cli.StringFlag{Name: "traces", Sources: cli.EnvVars("PISTON_TRACES"),
			Usage: "a collector that runs are told to as traces (OTLP over HTTP), such as http://127.0.0.1:4318/v1/traces"},
		&cli.StringFlag{Name: "outlets",
			Usage: "folder below which outlets that are folders are; default: outlets in --home"},
		&cli.BoolFlag{Name: "verbose", Usage: "tell more: every request, among others"},
	}
}

func hostOptions(c *cli.Command) (host.Options, error) {
	o := host.Options{Home: c.String("home"), Listen: c.String("listen"), Database: c.String("database"),
		Slots: c.Int("slots"), Isolate: c.String("isolation"), Network: c.String("network"),
		Through: c.StringSlice("let-through"), Take: c.Bool("take-records"),
		Log:     newLog(os.Stderr, slog.LevelInfo, c.Bool("verbose")),
		Outlets: c.String("outlets"), Traces: c.String("traces"),
		Mail: letters.Server{Address: c.String("mail-server"), From: c.String("mail-from"), User: c.String("mail-user"),
			Password: os.Getenv("PISTON_MAIL_PASSWORD"), Plain: c.Bool("mail-plain")},
		MasterFile: c.String("master-file"), Tokens: c.String("token-module"),
		CertFile: c.String("tls-cert"), KeyFile: c.String("tls-key"),
		Plain: c.Bool("behind-proxy"), Public: c.String("public"),
		Issuer: people.Issuer{Address: c.String("issuer"), Name: c.String("issuer-name"),
			ClientID:     c.String("issuer-client"),
			ClientSecret: os.Getenv("PISTON_ISSUER_SECRET"), GroupsClaim: c.String("issuer-groups")}}
	for _, text := range c.StringSlice("trust-proxy") {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			a, addressErr := netip.ParseAddr(text)
			if addressErr != nil {
				return o, terminal.Usage("--trust-proxy %q: write an address, or a range such as 10.0.0.0/8", text)
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		o.Proxies = append(o.Proxies, p)
	}
	if o.Mail.Address != "" && letter.Address(o.Mail.From) != nil {
		return o, terminal.Usage("--mail-server needs --mail-from, the address that mail comes from")
	}
	if err := o.Mail.Check(); err != nil {
		return o, terminal.Usage("--mail-server: %v", err)
	}
	var err error
	if o.Reserve, err = quantity.ParseBytes(c.String("reserve")); err != nil {
		return o, terminal.Usage("--reserve: %v", err)
	}
	switch {
	case (o.CertFile == "") != (o.KeyFile == ""):
		return o, terminal.Usage("--tls-cert and --tls-key go together")
	case (o.Issuer.Address == "") != (o.Issuer.ClientID == ""):
		return o, terminal.Usage("--issuer and --issuer-client go together")
	}
	return o, nil
}

func newLog(w io.Writer, level slog.Level, verbose bool) *slog.Logger {
	if verbose {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: level}))
	slog.SetDefault(log)
	return log
}

func serveCommand() *cli.Command {
	return &cli.Command{
		Name:  "serve",
		Usage: "run the service, with a PostgreSQL and a runner of its own",
		Description: "Keeps everything in the data folder and serves the console and the interface. At its first start it " +
			"makes\n" +
			"the administrator and prints the password, once. Ctrl-C stops everything in order.\n\n" +
			terminal.Example("piston serve --home ~/piston --listen 127.0.0.1:7460"),
		Flags: hostFlags(host.DefaultHome(), "127.0.0.1:7460"),
		Action: func(ctx context.Context, c *cli.Command) error {
			options, err := hostOptions(c)
			if err != nil {
				return err
			}
			h, err := host.Start(ctx, options)
			if err != nil {
				return err
			}
			defer h.Stop()
			w := terminal.Out(c)
			fmt.Fprintf(w, "Gentle Piston serves at %s\n", h.Address)
			if h.FirstPassword != "" {
				fmt.Fprintf(w, "\n  First start: sign in as admin with the password\n\n      %s\n\n  It is not shown again.\n\n",
					h.FirstPassword)
			}
			fmt.Fprintln(w, "Ctrl-C stops it.")
			select {
			case <-ctx.Done():
				fmt.Fprintln(w, "Stopping …")
				return nil
			case err := <-h.Failed:
				return err
			}
		},
	}
}
