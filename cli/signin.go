package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
)

func signInCommand() *cli.Command {
	return &cli.Command{
		Name:  "sign-in",
		Usage: "sign in to a service and remember it for the commands that follow",
		Description: "Asks for the password, or reads it from standard input when that is no terminal, and keeps a token " +
			"in\n" +
			"piston/client.json of your configuration folder (or the file PISTON_CONFIG names).\n\n" +
			terminal.Example("piston sign-in http://127.0.0.1:7460", "piston sign-in --browser https://builds.example"),
		ArgsUsage: "ADDRESS",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "who you are", Value: "admin"},
			&cli.BoolFlag{Name: "browser", Usage: "sign in by a browser, where the service's issuer says who you are"},
			terminal.JSONFlag,
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Words(c, "ADDRESS")
			if err != nil {
				return err
			}
			if c.Bool("browser") {
				return signInByBrowser(ctx, c, client.New(args[0], ""))
			}
			password, err := askSecret("Password of " + c.String("name") + ": ")
			if err != nil {
				return err
			}
			cl := client.New(args[0], "")
			issued, err := cl.SignIn(ctx, api.Credentials{Name: c.String("name"), Password: password}, tokenName())
			if err != nil {
				return err
			}
			return keepSignIn(c, cl, issued, c.String("name"))
		},
	}
}

func tokenName() string {
	hostname, _ := os.Hostname()
	return "command line on " + hostname
}

// browserFor is how long somebody may take in the browser: what the service gives them.
const browserFor = 10 * time.Minute

// signInByBrowser signs in where the service's issuer says who somebody is.
func signInByBrowser(ctx context.Context, c *cli.Command, cl *client.Client) error {
	b, err := cl.SignInByBrowser(ctx)
	if err != nil {
		return err
	}
	defer b.Close()
	terminal.Complain("Open this address in a browser:\n\n  %s\n", b.Address)
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprintln(os.Stderr,
			"If the browser is on another machine it ends at a page that it cannot open: paste that page's address here.")
		go pasted(b)
	}
	ctx, cancel := context.WithTimeout(ctx, browserFor)
	defer cancel()
	issued, err := b.Wait(ctx, tokenName())
	if err != nil {
		return terminal.Ending(terminal.ExitRefuse, err)
	}
	in := client.New(cl.Address, issued.Secret)
	me, err := in.Me(ctx)
	if err != nil {
		return err
	}
	return keepSignIn(c, cl, issued, me.Name)
}

// pasted takes the address that a browser on another machine ended at.
func pasted(b *client.Browser) {
	in := bufio.NewReader(os.Stdin)
	for {
		line, err := in.ReadString('\n')
		if u, bad := url.Parse(strings.TrimSpace(line)); bad == nil && (u.Query().Has("code") || u.Query().Has("error")) {
			b.Answer(u.Query())
			return
		}
		if err != nil {
			return
		}
		fmt.Fprintln(os.Stderr, "That address holds no code; it begins with http://127.0.0.1:")
	}
}

// keepSignIn remembers a service and a token for the commands that follow.
func keepSignIn(c *cli.Command, cl *client.Client, issued api.IssuedToken, name string) error {
	path, err := terminal.SettingsPath()
	if err != nil {
		return err
	}
	if err := terminal.SaveSettings(path, terminal.Settings{Server: cl.Address, Token: issued.Secret}); err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), map[string]string{"server": cl.Address, "name": name, "settings": path})
	}
	fmt.Fprintf(terminal.Out(c), "Signed in to %s as %s; kept in %s.\n", cl.Address, name, path)
	return nil
}

func signOutCommand() *cli.Command {
	return &cli.Command{
		Name: "sign-out", Usage: "make this machine's token useless, and forget it",
		Description: terminal.Example("piston sign-out"),
		Flags:       []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			// A token that is no good any more has nothing left to end.
			if err := cl.SignOut(ctx); err != nil && !client.IsStatus(err, http.StatusUnauthorized) {
				return err
			}
			known, err := terminal.LoadSettings()
			if err == nil && known.Token == cl.Token { // and not one from the environment
				var path string
				if path, err = terminal.SettingsPath(); err == nil {
					err = os.Remove(path)
				}
			}
			return told(c, map[string]string{"server": cl.Address}, err, fmt.Sprintf("Signed out of %s.", cl.Address))
		}),
	}
}

func passwordCommand() *cli.Command {
	return &cli.Command{
		Name: "password", Usage: "change your own password",
		Description: "Asks for the old one and the new one, or reads them as two lines from standard input when that is " +
			"no terminal.\n" +
			"Sessions end; tokens stay good, piston token list shows them.\n\n" + terminal.Example("piston password"),
		Flags: []cli.Flag{terminal.JSONFlag},
		Action: terminal.Asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			me, err := cl.WhoAmI(ctx)
			if err != nil {
				return err
			}
			prompts := []string{"Old password of " + me.Name + ": ", "New password, of 12 characters at least: ",
				"The new one again: "}
			if !term.IsTerminal(int(os.Stdin.Fd())) {
				prompts = prompts[:2]
			}
			given, err := askSecrets(prompts...)
			if err != nil {
				return err
			}
			if len(given) == 3 && given[1] != given[2] {
				return terminal.Usage("the new passwords differ; nothing is changed")
			}
			err = cl.ChangePassword(ctx, api.Credentials{Name: me.Name, Password: given[0]}, given[1])
			return told(c, map[string]string{"name": me.Name}, err, "The password of "+me.Name+" is changed.")
		}),
	}
}

// askSecret reads one line without showing it, or from standard input when that is no terminal.
func askSecret(prompt string) (string, error) {
	given, err := askSecrets(prompt)
	return strings.Join(given, ""), err
}

// askSecrets reads a line for each prompt.
func askSecrets(prompts ...string) (given []string, err error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		for _, p := range prompts {
			fmt.Fprint(os.Stderr, p)
			text, err := term.ReadPassword(int(os.Stdin.Fd()))
			fmt.Fprintln(os.Stderr)
			if err != nil {
				return nil, err
			}
			given = append(given, string(text))
		}
		return given, nil
	}
	in := bufio.NewReader(os.Stdin)
	for len(given) < len(prompts) {
		line, err := in.ReadString('\n')
		line = strings.TrimRight(line, "\r\n")
		if line == "" && err != nil {
			return nil, terminal.Ending(terminal.ExitUsage,
				fmt.Errorf("standard input ended after %s of %d", plural(len(given), "line"), len(prompts)))
		}
		given = append(given, line)
	}
	return given, nil
}
