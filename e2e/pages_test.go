package e2e

import (
	"encoding/json"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/e2e/browser"
)

// checkHistoryPages goes through what all runs tell together, as somebody would who looks for a reason.
func checkHistoryPages(t *testing.T, do func(string, ...chromedp.Action), address string) {
	var text, at string
	do("where the time goes", chromedp.Navigate(address+"/tidewick/time?pipeline=trunk"), shows("Machines at work"),
		chromedp.Click(`//main//a[contains(., "core › unit tests")]`), chromedp.WaitVisible(`//*[@id="step"]`),
		shows("It took longest in"))
	do("all test cases", chromedp.Navigate(address+"/tidewick/tests?show=all"),
		chromedp.Click(`//a[text()="springs exceed neaps"]`), chromedp.WaitVisible(`//h1[contains(., "springs exceed neaps")]`),
		shows("failed 1 of"))
	do("set it aside", chromedp.Click(`//button[text()="Set aside …"]`),
		chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Why")]/following::input[1]`, "the depot is moved"),
		chromedp.Evaluate(`(() => { const el = document.querySelector('[role=dialog] input[type=date]');
			Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(el,
				new Date(Date.now() + 864e5).toISOString().slice(0, 10));
			el.dispatchEvent(new Event('input', { bubbles: true })); })()`, nil),
		chromedp.Click(`[role=dialog] button[type=submit]`), shows("the depot is moved"),
		chromedp.Click(`//button[text()="No longer set aside"]`), chromedp.WaitVisible(`//button[text()="Set aside …"]`))
	do("what failed", chromedp.Navigate(address+"/tidewick/failures"), shows("a test failed"), shows("with run 4"))
	do("the failed run says why", chromedp.Navigate(address+"/tidewick/3?job=core"),
		chromedp.WaitVisible(`[aria-label="What failed"]`), shows("What to do:"))
	do("what its cause is, and where it was seen", chromedp.Click(`//a[contains(., "A test failed")]`),
		shows("It is known by lines like these"), shows("Put the phase's sign right again"), chromedp.NavigateBack())
	do("its log beside the one that passed", chromedp.Click(`//a[text()="Compare logs"]`), shows("lines differ"),
		shows("springs exceed neaps"), chromedp.Click(`//button[text()="Next difference"]`), chromedp.NavigateBack(),
		chromedp.WaitVisible(`[aria-label="What failed"]`))
	do("which change broke it", chromedp.Navigate(address+"/saltmarsh/150"), shows("The first bad change of notebook:"),
		chromedp.Click(`//button[contains(., "tries")]`), chromedp.WaitVisible(`[aria-label=Tries]`),
		chromedp.Text(`[aria-label="What broke notebook"]`, &text))
	assert.Contains(t, text, "Tidy up the Makefile")
	do("the causes there are", chromedp.Navigate(address+"/-/causes"), shows("the disk is full"))
	do("what is set", chromedp.Navigate(address+"/tidewick/settings"), shows("are handed out"),
		chromedp.Click(`[aria-label="Change: Its jobs"]`),
		chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Why")]/following::input[1]`, "the depot moves"),
		chromedp.Click(`[role=dialog] button[type=submit]`), shows("the depot moves"),
		chromedp.Click(`[aria-label="Change: Its jobs"]`), chromedp.Click(`[role=dialog] button[type=submit]`),
		shows("are handed out"))
	do("back to the failed run", chromedp.Navigate(address+"/tidewick/3?job=core"),
		chromedp.WaitVisible(`[aria-label="What failed"]`))
	do("find in its log", chromedp.SendKeys(`input[aria-label="Find in this log"]`, "SPRINGS\r"),
		chromedp.WaitVisible(`//*[@role="search"]//*[@role="status" and contains(., "1")]`),
		chromedp.SendKeys(`input[aria-label="Find in this log"]`, kb.Enter), chromedp.WaitVisible(`//*[@role="search"]//*[contains(., "of")]`),
		chromedp.Location(&at))
	assert.Contains(t, at, "line=", "a hit has an address")
	do("lines wrap, and have times", chromedp.Click(`//button[text()="Wrap"]`), chromedp.Click(`//button[text()="Times"]`),
		chromedp.WaitVisible(`//*[@role="log"]//*[starts-with(text(), "+0")]`))
	do("in all logs", chromedp.Navigate(address+"/tidewick/logs?for=springs"), shows("which are all"),
		chromedp.Text(`main`, &text))
	assert.Contains(t, text, "run 3 core:")
	do("a month's minutes", chromedp.Navigate(address+"/tidewick/usage"), shows("machines at work in"),
		shows("of 1 minute used"), chromedp.Click(`//button[text()="Budget …"]`),
		chromedp.SendKeys(`//*[@role="dialog"]//input[@type="number"]`, "1"), chromedp.Click(`[role=dialog] button[type=submit]`),
		shows("Budget:"), chromedp.WaitNotPresent(`[role=dialog]`), chromedp.Click(`//button[text()="No budget"]`),
		chromedp.WaitVisible(`//button[text()="Give it a budget …"]`))
	do("tell a program", chromedp.Navigate(address+"/tidewick/webhooks"), chromedp.Click(`//button[text()="Tell a program …"]`),
		chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Name")]/following::input[1]`, "chat"),
		chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Address")]/following::input[1]`, "http://127.0.0.1:9/in"),
		chromedp.Click(`[role=dialog] button[type=submit]`), shows("This is shown once"),
		chromedp.Click(`//button[text()="Try it"]`), shows("webhook.tried"), shows("connection refused"),
		chromedp.Click(`//button[text()="Drop"]`), shows("No program is told of anything"))
	do("anywhere by a few letters", chromedp.KeyEvent("k", chromedp.KeyModifiers(input.ModifierCtrl)),
		chromedp.WaitVisible(`[role=dialog] input`), chromedp.SendKeys(`[role=dialog] input`, "certific"+kb.Enter),
		chromedp.WaitVisible(`//h1[text()="Identities"]`))
}

// walked are the pages that are held against the rules of the Web Content Accessibility Guidelines.
var walked = []string{"/", "/tidewick", "/tidewick/3?job=core", "/tidewick/21", "/tidewick/time?pipeline=trunk", "/tidewick/tests?show=all",
	"/tidewick/failures", "/tidewick/failures/assertion", "/-/causes", "/tidewick/settings", "/tidewick/3/against/2",
	"/saltmarsh/150", "/tidewick/logs?for=springs", "/tidewick/usage", "/tidewick/webhooks", "/tidewick/pushes",
	"/tidewick/versions", "/tidewick/packages", "/tidewick/packages/4", "/tidewick/releases", "/tidewick/releases/almanac/1.5.0",
	"/tidewick/outlets", "/tidewick/pipelines", "/tidewick/pipelines/trunk", "/tidewick/secrets", "/tidewick/identities",
	"/tidewick/caches", "/tidewick/kept", "/tidewick/audit", "/-/queue", "/-/gates", "/-/people", "/-/audit", "/-/usage", "/-/you", "/-/runners/local",
	"/tidewick/shells"}

// checkAccessible has axe-core look at pages, light, dark, and on a phone: each in a browser of its own.
func checkAccessible(t *testing.T, s *server, pages []string) {
	t.Run("pages", func(t *testing.T) { lookAt(t, s, pages) })
}

func lookAt(t *testing.T, s *server, pages []string) {
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	for _, look := range []struct {
		name, scheme string
		width        int64
	}{{"light", "light", 1280}, {"dark", "dark", 1280}, {"phone", "light", 390}} {
		t.Run(look.name, func(t *testing.T) {
			t.Parallel()
			_, do := consoleOf(t)
			address := "http://" + s.listen
			do("sign in", browser.SignIn(address, s.password))
			do("as it is seen", browser.Scheme(look.scheme), chromedp.EmulateViewport(look.width, 844))
			for _, path := range pages {
				do("open "+path, chromedp.Navigate(address+path), chromedp.WaitVisible(`main > *`))
				checkPage(t, do, string(axe), path)
			}
		})
	}
}

// checkPage holds one page, which is open, against the rules.
func checkPage(t *testing.T, do func(string, ...chromedp.Action), axe, path string) {
	t.Helper()
	var answer string
	var wide bool
	do("look at "+path, chromedp.Evaluate(axe, nil),
		chromedp.Evaluate(`new Promise((done) => setTimeout(done, 400)).then(() => axe.run(document, {
			resultTypes: ['violations'], runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'],
		})).then((r) => JSON.stringify(r.violations.map((v) => v.id + ': ' + v.nodes.map((n) =>
			n.html.slice(0, 160) + ' ' + n.any.map((a) => a.message).join('; ')).slice(0, 3).join(' | '))))`,
			&answer, func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }),
		chromedp.Evaluate(`document.documentElement.scrollWidth > window.innerWidth`, &wide))
	var violations []string
	require.NoError(t, json.Unmarshal([]byte(answer), &violations))
	assert.Empty(t, violations, "%s:\n%s", path, strings.Join(violations, "\n"))
	assert.False(t, wide, "%s is wider than the window", path)
}

// checkHistory looks for what the demo's history hides: since when a step is slow, a case that is flaky, and a failure
// that was seen before, with what ended it.
func checkHistory(t *testing.T, s *server) {
	var times api.Times
	require.Eventually(t, func() bool {
		out, code := s.piston(t, "", "times", "saltmarsh", "--json")
		return code == 0 && json.Unmarshal([]byte(out), &times) == nil && times.SetBack
	}, 3*time.Minute, time.Second, "%s", s.log)
	out, code := s.piston(t, "", "times", "saltmarsh", "--step", "notebook/tests")
	require.Zero(t, code, out)
	var slow api.StepTimes
	told, code := s.piston(t, "", "times", "saltmarsh", "--step", "notebook/tests", "--json")
	require.Zero(t, code, told)
	require.NoError(t, json.Unmarshal([]byte(told), &slow))
	// What else goes on on the machine changes times, too: one of the changes is the one that was made.
	at := slices.IndexFunc(slow.What, func(c api.ChangedThere) bool {
		return c.First <= 64 && 64 <= c.Last && c.Now > c.Before
	})
	require.GreaterOrEqual(t, at, 0, "%+v", slow.What)
	assert.Less(t, slow.What[at].Last-slow.What[at].First, record.RunNumber(15), "%+v", slow.What[at])
	assert.Condition(t, func() bool {
		return slices.ContainsFunc(slow.What[at].Since.Commits, func(c api.CommitNote) bool {
			return c.Subject == "Keep sightings in order as they come in"
		})
	}, "the change that did it is named: %+v", slow.What[at])
	assert.Contains(t, out, "slower since")
	assert.Contains(t, out, "Keep sightings in order as they come in")
	out, _ = s.piston(t, "", "tests", "saltmarsh", "--show", "flaky")
	assert.Contains(t, out, "two notes at once have one time")
	out, _ = s.piston(t, "", "show", "saltmarsh", "150")
	assert.Contains(t, out, "an undefined symbol.")
	assert.Contains(t, out, "Build the tags, too", "what ended it the last time")
	out, _ = s.piston(t, "", "bisect", "saltmarsh", "150")
	assert.Contains(t, out, "one of 7 changes between")
	_, found, _ := strings.Cut(out, "The first bad change:")
	assert.Contains(t, found, "Tidy up the Makefile", out)
	out, _ = s.piston(t, "", "usage", "saltmarsh", "--month", times.Runs[0].At.UTC().Format("2006-01"))
	assert.Contains(t, out, "jobs tried again")
}
