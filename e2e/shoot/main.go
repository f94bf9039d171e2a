// Command shoot takes the pictures of docs/screenshots from a running demo: its pages, light and dark.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/demo"
	"gentlepiston.example/piston/e2e/browser"
)

// pages are shown light; in the dark one is shown for all, since they differ in nothing but their colours.
var pages = []struct{ name, path, wait string }{
	{"run-waits", "/tidewick/21", `section[aria-label="Question of go"]`},
	{"release", "/tidewick/releases/almanac/1.5.0", `section[aria-label="Where it went"] table`},
	{"projects", "/", `//section[@aria-label="saltmarsh"]`},
	{"runs", "/tidewick", `//a[text()="6"]`},
	{"time", "/saltmarsh/time?step=notebook%2Ftests", `//*[@id="step"]//*[contains(text(), "It took longest")]`},
	{"run-failed", "/tidewick/3", `[role=log] [data-line]`},
	{"broke", "/saltmarsh/150", `//section[@aria-label="What broke notebook"]`},
	{"queue", "/-/queue", `//td[contains(text(), "held")]`},
	{"editor", "/tidewick/pipelines/trunk", `//span[contains(text(), "nothing found")]`},
	{"versions", "/tidewick/versions", `//b[text()="1.5.0"]`},
	{"package", "/tidewick/packages/12", `//section[@aria-label="What the size is made of"]`},
}

func main() {
	address := flag.String("address", "http://127.0.0.1:7460", "the demo's console")
	home := flag.String("home", "", "the demo's data folder, which holds the password")
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	flag.Parse()
	password, err := os.ReadFile(filepath.Join(*home, "console-password"))
	if err != nil {
		log.Fatal(err)
	}
	settings, err := os.ReadFile(filepath.Join(*home, "client.json"))
	if err != nil {
		log.Fatal(err)
	}
	release, err := queueSome(context.Background(), settings)
	if err != nil {
		log.Fatal(err)
	}
	defer release()
	if err := shoot(*address, strings.TrimSpace(string(password)), *out, outside(settings, *home)); err != nil {
		log.Print(err)
	}
}

// queueSome makes jobs wait, so that there is a queue to show, and returns what undoes it.
func queueSome(ctx context.Context, settings []byte) (undo func(), err error) {
	var s struct{ Server, Token string }
	if err := json.Unmarshal(settings, &s); err != nil {
		return nil, err
	}
	cl := client.New(s.Server, s.Token)
	if _, err := cl.Hold(ctx, demo.Project, "the depot is being moved"); err != nil {
		return nil, err
	}
	var runs []record.RunNumber
	undo = func() {
		for _, n := range runs {
			_ = cl.StopRun(ctx, demo.Project, n)
		}
		_, _ = cl.Hold(ctx, demo.Project, "")
	}
	for _, in := range []api.StartRun{{Pipeline: "trunk"}, {Pipeline: "release",
		Inputs: map[string]string{"size": "patch"}}, {Pipeline: "nightly"}} {
		r, err := cl.StartRun(ctx, demo.Project, in)
		if err != nil {
			undo()
			return nil, err
		}
		runs = append(runs, r.Number)
	}
	return undo, nil
}

func shoot(address, password, out string, others []other) error {
	parent, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	ctx, stop, err := browser.Start(parent)
	if err != nil {
		return err
	}
	defer stop()
	if err := chromedp.Run(ctx, browser.Scheme("light"), browser.SignIn(address, password)); err != nil {
		return err
	}
	for _, p := range pages {
		file := filepath.Join(out, p.name+"-light.png")
		if err := picture(ctx, file, chromedp.Navigate(address+p.path), chromedp.WaitVisible(p.wait)); err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
	}
	if err := chromedp.Run(ctx, browser.Scheme("dark")); err != nil {
		return err
	}
	if err := lookAround(ctx, address, filepath.Join(out, "shell-dark.png")); err != nil {
		return err
	}
	for _, o := range others {
		err := picture(ctx, filepath.Join(out, o.name+"-light.png"), browser.Scheme("light"),
			chromedp.EmulateViewport(o.width, 844), chromedp.Navigate(o.address), chromedp.WaitVisible("//h1"))
		if err != nil {
			return fmt.Errorf("%s: %w", o.name, err)
		}
	}
	return nil
}

// lookAround shows a terminal in what the demo's failed run has left.
func lookAround(ctx context.Context, address, file string) error {
	return picture(ctx, file, chromedp.Navigate(address+"/tidewick/3/shell/core"),
		chromedp.WaitVisible(`.xterm`, chromedp.ByQuery),
		chromedp.Sleep(time.Second), chromedp.KeyEvent("ls"+kb.Enter), chromedp.Sleep(time.Second),
		chromedp.KeyEvent("make test 2>&1 | tail -4"+kb.Enter), chromedp.Sleep(3*time.Second))
}

// other is a page that is not the console's.
type other struct {
	name, address string
	width         int64
}

// outside are the page of a tester, as a phone shows it, and that of a stand-in of a store.
func outside(settings []byte, home string) (list []other) {
	var s struct{ Server, Token string }
	if err := json.Unmarshal(settings, &s); err != nil {
		log.Fatal(err)
	}
	page, err := client.New(s.Server, s.Token).Testers(context.Background(), demo.Project, api.TesterFilter{Limit: 1})
	if err != nil {
		log.Fatal(err)
	}
	for _, t := range page.Testers {
		list = append(list, other{"tester", t.Link, 390})
	}
	var m struct {
		Ports map[string]int `json:"shop_ports"`
	}
	text, err := os.ReadFile(filepath.Join(home, "demo.json"))
	if err == nil {
		err = json.Unmarshal(text, &m)
	}
	if err != nil {
		log.Fatal(err)
	}
	return append(list, other{"store", fmt.Sprintf("http://127.0.0.1:%d/", m.Ports["quayside"]), 1100})
}

func picture(ctx context.Context, file string, before ...chromedp.Action) error {
	var png []byte
	actions := append(before, browser.Settle(), chromedp.CaptureScreenshot(&png))
	if err := chromedp.Run(ctx, actions...); err != nil {
		return err
	}
	return os.WriteFile(file, png, 0o644)
}
