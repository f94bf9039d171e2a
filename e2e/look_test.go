package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/e2e/browser"
)

// long is a job whose log is longer than a browser draws at a time.
const long = `[trigger.push]
[job.main]
stay = "10m"
limits = { log = "100MB" }
[[job.main.step]]
name = "make"
script = "seq 1 50"
[[job.main.step]]
name = "many"
script = "seq 1 1000000"
[[job.main.step]]
name = "test"
script = "seq 1 20; echo 'error: at the end'; exit 3"
`

func TestLookingAroundInTheConsole(t *testing.T) {
	s := serve(t)
	r := s.project(t, "shore", map[string]string{"piston/trunk.toml": long})
	r.push()
	require.Equal(t, state.Failed, r.run(1, true).State)
	parent, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	ctx, stop, err := browser.Start(parent)
	require.NoError(t, err)
	defer stop()
	do := func(what string, actions ...chromedp.Action) {
		t.Helper()
		within, cancel := context.WithTimeout(ctx, 30*time.Second)
		defer cancel()
		require.NoError(t, chromedp.Run(within, actions...), what)
	}
	address := "http://" + s.listen
	do("sign in", browser.SignIn(address, s.password))

	// The log: its end first, a range by its address, steps folded, a part at a time.
	var total, marked, lines string
	do("the end of a long log", chromedp.Navigate(address+"/shore/1?job=main"),
		chromedp.WaitVisible(`//*[@data-line]//*[contains(text(), "error: at the end")]`),
		chromedp.Text(`section[aria-label="Log of main"]`, &total))
	assert.Contains(t, total, "lines 800,001 to 1,000,0", "it is shown a part at a time")
	do("fold what passed", chromedp.Click(`//button[text()="Fold"]`),
		chromedp.WaitVisible(`//button[contains(., "many, 1,000,000 lines")]`))
	do("earlier", chromedp.Click(`//button[text()="Earlier"]`), chromedp.WaitVisible(`//span[contains(., "lines 400,001 to 800,000")]`))
	do("lines in the middle", chromedp.Navigate(address+"/shore/1?job=main&line=500000-500002"),
		chromedp.WaitVisible(`[data-line="500001"]`), chromedp.WaitVisible(`//button[text()="Copy lines"]`),
		chromedp.Evaluate(`[...document.querySelectorAll('[data-line]')].filter((l) => getComputedStyle(l).boxShadow !== 'none')
			.map((l) => l.dataset.line).join(' ')`, &marked),
		chromedp.Text(`[data-line="500001"]`, &lines))
	assert.Equal(t, "500000 500001 500002", marked)
	assert.True(t, strings.HasPrefix(lines, "500001"), lines)

	// The workspace that stays, by the page of its run.
	shown := func(text string) chromedp.Action {
		return chromedp.ActionFunc(func(ctx context.Context) error {
			for ctx.Err() == nil { // the page allows nobody to evaluate what polls by itself
				var is bool
				err := chromedp.Evaluate(`[...document.querySelectorAll('.xterm-accessibility-tree > div')]
					.some((l) => l.textContent.includes("`+text+`"))`, &is).Do(ctx)
				if is || err != nil {
					return err
				}
				time.Sleep(50 * time.Millisecond)
			}
			return fmt.Errorf("%q is not shown: %w", text, ctx.Err())
		})
	}
	do("look around", chromedp.Navigate(address+"/shore/1"), chromedp.Click(`//section[@aria-label="What failed"]//a[text()="Look around"]`),
		chromedp.WaitVisible(`.xterm`, chromedp.ByQuery), shown("/build/src $"))
	do("type", chromedp.KeyEvent("echo $((6 * 7))-typed; ls -a"+kb.Enter), shown("42-typed"), shown("piston"))
	var leaves string
	do("leave the terminal by keys", chromedp.KeyEvent(kb.Escape, chromedp.KeyModifiers(8)),
		chromedp.Evaluate(`document.activeElement.className`, &leaves))
	assert.NotContains(t, leaves, "xterm")
	checkAccessible(t, s, []string{"/shore/1/shell/main", "/shore/shells", "/shore/1"})
	do("what was shown is played", browser.Scheme("light"), chromedp.EmulateViewport(1280, 800),
		chromedp.Navigate(address+"/shore/shells"), chromedp.WaitVisible(`//button[text()="Play"]`),
		chromedp.Evaluate(`[...document.querySelectorAll('button')].filter((b) => b.textContent === 'Play').at(-1).click()`, nil),
		shown("42-typed"), chromedp.KeyEvent(kb.Escape))
	do("let go", chromedp.Click(`//button[text()="Let go"]`), chromedp.WaitVisible(`//*[contains(text(), "No workspace stays")]`))
}
