// Package browser drives headless Chromium against the console, for tests and screenshots.
package browser

import (
	"context"
	"os"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// Start opens a browser with one tab of 1280x800. close ends it.
func Start(parent context.Context) (ctx context.Context, close func(), err error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.WindowSize(1280, 800),
		// Nothing but loopback is there; without these Chromium asks for its makers' hosts at every start.
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true), chromedp.DisableGPU)
	if os.Geteuid() == 0 {
		options = append(options, chromedp.NoSandbox)
	}
	allocator, stopBrowser := chromedp.NewExecAllocator(parent, options...)
	ctx, stopTab := chromedp.NewContext(allocator)
	close = func() { stopTab(); stopBrowser() }
	return ctx, close, chromedp.Run(ctx, chromedp.EmulateViewport(1280, 800))
}

// Scheme makes the page look light or dark, as a system that is set so would.
func Scheme(name string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		return emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme",
			Value: name}}).Do(ctx)
	})
}

// SignIn opens the console and signs in.
func SignIn(address, password string) chromedp.Tasks {
	return chromedp.Tasks{
		chromedp.Navigate(address),
		chromedp.WaitVisible(`input[name=password]`),
		chromedp.SendKeys(`input[name=password]`, password+"\r"),
		chromedp.WaitVisible(`//h1[text()="Projects"]`),
	}
}

// Settle gives fonts and the last answers a moment, for pictures.
func Settle() chromedp.Action { return chromedp.Sleep(700 * time.Millisecond) }
