package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"image/png"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"howett.net/plist"

	"gentlepiston.example/piston/api"
)

// asked is an answer, read.
type asked struct {
	code   int
	header http.Header
	text   string
}

// ask asks for something as nobody in particular, and follows no redirect.
func ask(t *testing.T, method, address string, body io.Reader, header ...string) (a asked) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, address, body)
	require.NoError(t, err)
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return asked{res.StatusCode, res.Header, string(text)}
}

// checkTesters looks at the page of somebody who tries the demo's releases, as nobody who is signed in.
func checkTesters(t *testing.T, s *server) {
	list, err := s.cl.Testers(t.Context(), "tidewick", api.TesterFilter{Contains: "jon@", Limit: 1})
	require.NoError(t, err)
	require.Len(t, list.Testers, 1)
	link := list.Testers[0].Link
	page := ask(t, "GET", link, nil, "Accept-Language", "da, en;q=0.5")
	require.Equal(t, 200, page.code)
	assert.Less(t, len(page.text), 60_000)
	assert.NotContains(t, page.text, "<script")
	assert.NotContains(t, page.text, "@harbour.example", "nobody's address, not even one's own")
	assert.Contains(t, page.text, "Tidevandet", "in the language that is understood")
	assert.Contains(t, page.text, "Are the springs right at Gullwick?")
	assert.Contains(t, page.header.Get("Content-Security-Policy"), "script-src 'self'")
	for name, value := range map[string]string{"Referrer-Policy": "no-referrer", "Cache-Control": "no-store",
		"X-Robots-Tag": "noindex"} {
		assert.Equal(t, value, page.header.Get(name))
	}
	for _, elsewhere := range regexp.MustCompile(`(?:src|href)="([^"]+)"`).FindAllStringSubmatch(page.text, -1) {
		assert.Regexp(t, `^(/t/|data:image/png)`, elsewhere[1], "nothing is fetched from elsewhere")
	}

	// To install it; a download that was cut goes on.
	at := regexp.MustCompile(`href="(/t/[^"]+/(\d+)/\d+/tidewick\.apk)"`).FindStringSubmatch(page.text)
	require.Len(t, at, 3, "%s", page.text)
	whole := ask(t, "GET", s.cl.Address+at[1], nil)
	require.Equal(t, 200, whole.code)
	assert.Equal(t, "application/vnd.android.package-archive", whole.header.Get("Content-Type"))
	sum := sha256.Sum256([]byte(whole.text))
	assert.Equal(t, fmt.Sprintf("%q", hex.EncodeToString(sum[:])), whole.header.Get("ETag"))
	rest := ask(t, "GET", s.cl.Address+at[1], nil, "Range", "bytes=1000-")
	assert.Equal(t, 206, rest.code)
	assert.Equal(t, whole.text[1000:], rest.text)
	assert.Equal(t, 404, ask(t, "GET", s.cl.Address+strings.Replace(at[1], "tidewick.apk", "other.apk", 1), nil).code)
	list, err = s.cl.Testers(t.Context(), "tidewick", api.TesterFilter{Contains: "jon@", Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, 1, list.Testers[0].Downloads, "once, though in two parts")
	ipa := regexp.MustCompile(`href="(/t/[^"]+)/Tidewick\.ipa"`).FindStringSubmatch(page.text)
	require.Len(t, ipa, 2)
	manifest := ask(t, "GET", s.cl.Address+ipa[1]+"/manifest.plist", nil)
	var says struct {
		Items []struct {
			Assets   []map[string]string `plist:"assets"`
			Metadata map[string]string   `plist:"metadata"`
		} `plist:"items"`
	}
	_, err = plist.Unmarshal([]byte(manifest.text), &says)
	require.NoError(t, err)
	assert.Equal(t, "net.tidewick.almanac", says.Items[0].Metadata["bundle-identifier"])
	assert.Equal(t, s.cl.Address+ipa[1]+"/Tidewick.ipa", says.Items[0].Assets[0]["url"])
	assert.Equal(t, 404, ask(t, "GET", s.cl.Address+strings.TrimSuffix(at[1], "tidewick.apk")+"manifest.plist", nil).code)
	code := ask(t, "GET", link+"/code.png", nil)
	_, err = png.Decode(strings.NewReader(code.text))
	assert.NoError(t, err)

	// A word, and what is none.
	word := func(text string, picture []byte) asked {
		var body bytes.Buffer
		form := multipart.NewWriter(&body)
		require.NoError(t, form.WriteField("text", text))
		file, err := form.CreateFormFile("picture", "x.png")
		require.NoError(t, err)
		_, err = file.Write(picture)
		require.NoError(t, err)
		require.NoError(t, form.Close())
		return ask(t, "POST", link+"/"+at[2]+"/words", &body, "Content-Type", form.FormDataContentType())
	}
	said := word("<b>Well</b>, and & \u202e fine", nil)
	assert.Equal(t, 200, said.code)
	assert.Contains(t, said.text, "Thank you")
	out, exit := s.piston(t, "", "release", "words", "tidewick", "1.5.1")
	assert.Zero(t, exit)
	assert.Contains(t, out, "<b>Well</b>, and &")
	assert.NotContains(t, out, "\u202e", "nothing turns the line around")
	for what, picture := range map[string][]byte{"no picture": []byte("<svg onload=alert(1)>"),
		"one of 50 MB": bytes.Repeat([]byte("x"), 50_000_000)} {
		refused := word("look", picture)
		assert.Equal(t, 422, refused.code, what)
		assert.Contains(t, refused.text, "10 MB", what)
	}
	assert.Equal(t, 422, ask(t, "POST", link+"/"+at[2]+"/words", strings.NewReader("junk"), "Content-Type",
		"multipart/form-data; boundary=x").code)
	device := url.Values{"device": {"<script>"}, "name": {"x"}}.Encode()
	refused := ask(t, "POST", link+"/devices", strings.NewReader(device), "Content-Type",
		"application/x-www-form-urlencoded")
	assert.Equal(t, 422, refused.code)
	assert.NotContains(t, refused.text, "<script")

	// The mails end by a click, which a program that reads mail can make, and no page of others.
	assert.Equal(t, 403, ask(t, "POST", link+"/stop", nil, "Origin", "https://elsewhere.example",
		"Sec-Fetch-Site", "cross-site").code)
	assert.Contains(t, ask(t, "GET", link+"/stop", nil).text, "End the mails")
	assert.Equal(t, 200, ask(t, "POST", link+"/stop", strings.NewReader("List-Unsubscribe=One-Click"), "Content-Type",
		"application/x-www-form-urlencoded").code)
	list, err = s.cl.Testers(t.Context(), "tidewick", api.TesterFilter{Contains: "jon@", Limit: 1})
	require.NoError(t, err)
	assert.True(t, list.Testers[0].Quiet)
	lost := ask(t, "GET", link[:len(link)-1]+"A", nil)
	assert.Equal(t, 404, lost.code)
	assert.Contains(t, lost.text, "This link leads nowhere")
}

// checkOutletPages walks through what the console tells of outlets, testers and what they say.
func checkOutletPages(do func(what string, actions ...chromedp.Action), address string) {
	do("the outlets", chromedp.Navigate(address+"/tidewick/outlets"), chromedp.WaitVisible(`//b[text()="lantern-hall"]`),
		shows("its secret expires on"))
	do("one answers", chromedp.Click(`button[aria-label="Try quayside"]`), shows("it answers"))
	do("testers, and one who gets no mail", shows("mira@harbour.example"), shows("gets no mail"))
	do("somebody joins", chromedp.Click(`//button[text()="Add testers"]`),
		chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Group")]/following::input[1]`, "friends"),
		chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Mail addresses")]/following::textarea[1]`,
			"ebb@harbour.example flow@harbour.example"),
		chromedp.Click(`[role=dialog] button[type=submit]`), shows("flow@harbour.example"))
	do("somebody is dropped, once that was asked about",
		chromedp.Click(`//tr[contains(., "flow@harbour.example")]//button[text()="Drop"]`),
		chromedp.Click(`[role=dialog] button[type=submit]`), chromedp.WaitNotPresent(`//td[contains(., "flow@harbour.example")]`))
	do("what a tester said", chromedp.Navigate(address+"/tidewick/releases/almanac/1.5.0"),
		chromedp.WaitVisible(`section[aria-label="Testers"] img`), shows("But what is it called?"))
	do("where each release went", chromedp.Navigate(address+"/tidewick/releases"), shows("at 10 %"))
}
