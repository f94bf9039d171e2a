package cli

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/host"
	"gentlepiston.example/piston/standin/shop"
)

func standInStore() *cli.Command {
	return &cli.Command{
		Name:  "store",
		Usage: "a store that speaks the outlet protocol, and a page on which is done what is done by hand there",
		Description: "Nothing reaches anybody. By default a machine looks at what is brought, as in stores for Android: " +
			"named channels, one draft\n" +
			"in each, a staged share. With --people it is processed for a while, then questions on encryption are to be " +
			"answered,\n" +
			"and a person accepts or refuses it, as in stores for iOS. Its page also switches faults on: answers that are " +
			"late,\n" +
			"cut, or wrong.\n\n" +
			terminal.Example("piston stand-in store --listen 127.0.0.1:7481",
				"piston stand-in store --people --listen 127.0.0.1:7482 --processing 20s"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Usage: "where it is reached", Value: "127.0.0.1:7481"},
			&cli.BoolFlag{Name: "people", Usage: "people look at what is brought, and not a machine"},
			&cli.StringFlag{Name: "home", Usage: "the folder where it keeps everything; by default below that of the service"},
			&cli.StringFlag{Name: "name", Usage: "what it is called"},
			&cli.StringFlag{Name: "client-key", Usage: "a file with the public key (PEM) by which its client may sign, too"},
			&cli.DurationFlag{Name: "processing", Usage: "how long it works on a package", Value: 3 * time.Second},
			&cli.DurationFlag{Name: "review", Usage: "how long it is looked at; with --people 0, for until somebody says so",
				Value: 3 * time.Second},
			&cli.IntFlag{Name: "target", Usage: "the level of Android's interface for which a package has to be made at least",
				Value: shop.DefaultTarget},
			&cli.StringSliceFlag{Name: "takes", Usage: "a kind of package that it takes; by default app-bundle and apk, with " +
				"--people ipa"},
			terminal.JSONFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := terminal.Words(c); err != nil {
				return err
			}
			o := shop.Options{Name: c.String("name"), People: c.Bool("people"), Folder: c.String("home"),
				Target: c.Int("target"), Takes: c.StringSlice("takes"),
				Processing: c.Duration("processing"), Review: c.Duration("review")}
			if o.People && !c.IsSet("review") {
				o.Review = 0
			}
			if o.Folder == "" {
				kind := map[bool]string{false: "store", true: "store-people"}[o.People]
				o.Folder = filepath.Join(filepath.Dir(host.DefaultHome()), "piston-stand-ins", kind)
			}
			s, err := shop.Open(o)
			if err != nil {
				return terminal.Ending(terminal.ExitFailed, err)
			}
			if file := c.String("client-key"); file != "" {
				text, err := os.ReadFile(file)
				if err == nil {
					err = s.Allow(string(text))
				}
				if err != nil {
					return terminal.Ending(terminal.ExitFailed, err)
				}
			}
			on, err := net.Listen("tcp", c.String("listen"))
			if err != nil {
				return terminal.Ending(terminal.ExitFailed, err)
			}
			at := "http://" + on.Addr().String()
			err = told(c, map[string]string{"url": at, "client": shop.Client, "secret": s.Secret()}, nil, fmt.Sprintf(
				"A stand-in of a store is at %s: that is its page, and where it speaks the outlet protocol.\nIts client is %s, "+
					"with the secret %s\nCtrl-C stops it.", at, shop.Client, s.Secret()))
			if err != nil {
				return err
			}
			return s.Serve(ctx, on, at)
		},
	}
}
