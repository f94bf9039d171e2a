package service

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/publish"
	"gentlepiston.example/piston/store"
)

// withTesters makes an outlet for testers, and a group.
func withTesters(t *testing.T, s *Service, ada context.Context, addresses ...string) {
	t.Helper()
	_, err := s.Publish.SetOutlet(ada, "app", "testers", api.NewOutlet{Kind: store.TestersOutlet, Days: 30})
	require.NoError(t, err)
	_, err = s.Testers.Add(ada, "app", api.NewTesters{Group: "friends", Addresses: addresses})
	require.NoError(t, err)
}

// linkOf is the link of a tester, as their page is found by it.
func linkOf(t *testing.T, s *Service, ada context.Context, address string) (link string, id record.TesterID) {
	t.Helper()
	page, err := s.Testers.List(ada, "app", api.TesterFilter{Contains: address, Limit: 1})
	require.NoError(t, err)
	require.Len(t, page.Testers, 1)
	_, link, found := strings.Cut(page.Testers[0].Link, "/t/")
	require.True(t, found)
	return link, page.Testers[0].ID
}

func TestTestersGetAReleaseAndSayWhatTheyThink(t *testing.T) {
	s, box, start := openWithMail(t)
	defer start()()
	r := addRepository(t, s)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	withTesters(t, s, ada, "mira@harbour.example", "jon@harbour.example", "mira@Harbour.example")
	made := releasedAs(t, s, r, "1.0", "the package")
	path := api.ReleasePath{App: made.App, Name: made.Name}
	plan, err := s.Publish.Plan(ada, "app", path, api.NewPublication{Outlet: "testers", Channel: "nobody", Share: 10})
	require.NoError(t, err)
	assert.Len(t, plan.Missing, 2, "an empty group, and a share of it")
	p, err := s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "testers", Channel: "friends",
		Note: "Are the springs right?"})
	require.NoError(t, err)
	stands(t, s, p, publication.Out)

	// Each gets one mail, with a link of their own, and nobody's address but their own.
	letters := came(t, box, 2)
	link, id := linkOf(t, s, ada, "mira")
	other, _ := linkOf(t, s, ada, "jon")
	for _, l := range letters {
		own, foreign, neighbour := link, other, "jon@"
		if strings.HasPrefix(l.To, "jon") {
			own, foreign, neighbour = other, link, "mira@"
		}
		assert.Contains(t, l.Text, "/t/"+own)
		assert.NotContains(t, l.Text+l.HTML, foreign)
		assert.NotContains(t, l.Text+l.HTML, neighbour)
		assert.Contains(t, l.Text, "What to look at: Are the springs right?")
	}

	page, err := s.Testers.Page(t.Context(), link)
	require.NoError(t, err)
	require.Len(t, page.Releases, 1)
	one := page.Releases[0]
	assert.Equal(t, "Are the springs right?", one.Note)
	require.Len(t, one.Files, 1)
	f, content, err := s.Testers.File(t.Context(), link, one.Trial, one.Files[0].Artifact, "tide.apk", true)
	require.NoError(t, err)
	text, err := io.ReadAll(content)
	require.NoError(t, err)
	assert.Equal(t, "the package", string(text))
	assert.Equal(t, "tide.apk", f.File)
	_, _, err = s.Testers.File(t.Context(), link, one.Trial, one.Files[0].Artifact+1, "tide.apk", true)
	assert.ErrorIs(t, err, ground.ErrNotFound)

	require.NoError(t, s.Testers.Say(t.Context(), link, one.Trial, " The tides are right. ", picture(t, 2000, 10)))
	tried, err := s.Testers.Tried(ada, "app", path)
	require.NoError(t, err)
	require.Len(t, tried.Groups, 1)
	assert.Equal(t, [2]int{2, 1}, [2]int{tried.Groups[0].Testers, tried.Groups[0].Downloaded})
	require.Len(t, tried.Words, 1)
	assert.Equal(t, "The tides are right.", tried.Words[0].Text)
	drawn, err := s.Testers.Picture(ada, "app", tried.Words[0].ID)
	require.NoError(t, err)
	about, err := jpeg.DecodeConfig(bytes.NewReader(drawn))
	require.NoError(t, err)
	assert.Equal(t, 1600, about.Width, "drawn anew, within bounds")

	// What is halted, over or taken back is not there any more; nor is a link that was given anew.
	require.NoError(t, s.Publish.Halt(ada, "app", p.ID))
	stands(t, s, p, publication.Halted)
	page, err = s.Testers.Page(t.Context(), link)
	require.NoError(t, err)
	assert.Empty(t, page.Releases)
	_, _, err = s.Testers.File(t.Context(), link, one.Trial, one.Files[0].Artifact, "tide.apk", true)
	assert.ErrorIs(t, err, ground.ErrNotFound)
	assert.ErrorIs(t, s.Testers.Say(t.Context(), link, one.Trial, "too late", nil), ground.ErrNotFound)
	require.NoError(t, s.Publish.Share(ada, "app", p.ID, 100))
	stands(t, s, p, publication.Out)
	_, err = s.Testers.NewLink(ada, "app", id)
	require.NoError(t, err)
	_, err = s.Testers.Page(t.Context(), link)
	assert.ErrorIs(t, err, ground.ErrNotFound)
	link, _ = linkOf(t, s, ada, "mira")
	page, err = s.Testers.Page(t.Context(), link)
	require.NoError(t, err)
	assert.Len(t, page.Releases, 1)
	require.NoError(t, s.Releases.Withdraw(ada, "app", path, api.Withdrawal{Reason: "wrong"}))
	page, err = s.Testers.Page(t.Context(), link)
	require.NoError(t, err)
	assert.Empty(t, page.Releases)
	require.NoError(t, s.Testers.Drop(ada, "app", id, ""))
	_, err = s.Testers.Page(t.Context(), link)
	assert.ErrorIs(t, err, ground.ErrNotFound)
	assert.ErrorIs(t, s.Testers.Drop(ada, "app", id, ""), ground.ErrNotFound)
}

// picture is one of a size, as a PNG.
func picture(t *testing.T, width, height int) []byte {
	t.Helper()
	i := image.NewRGBA(image.Rect(0, 0, width, height))
	i.Set(0, 0, color.Black)
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, i))
	return b.Bytes()
}

func TestWhoWantsNoMailGetsNone(t *testing.T) {
	s, box, start := openWithMail(t)
	defer start()()
	r := addRepository(t, s)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	withTesters(t, s, ada, "mira@harbour.example", "jon@harbour.example")
	link, _ := linkOf(t, s, ada, "mira")
	require.NoError(t, s.Testers.Quiet(t.Context(), link, true))
	made := releasedAs(t, s, r, "1.0", "the package")
	p, err := s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "testers", Channel: "friends"})
	require.NoError(t, err)
	stands(t, s, p, publication.Out)
	assert.Equal(t, "jon@harbour.example", came(t, box, 1)[0].To)
	page, err := s.Testers.Page(t.Context(), link)
	require.NoError(t, err)
	assert.Len(t, page.Releases, 1, "the page shows it all the same")
	assert.True(t, page.Quiet)
}

func TestWhatTestersMayNotSend(t *testing.T) {
	s, _, start := openWithMail(t)
	defer start()()
	r := addRepository(t, s)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	for what, addresses := range map[string][]string{"a line break": {"a@b.example\r\nBcc: x@y.example"},
		"no address": {"good@harbour.example", "mira"}, "a name beside it": {"Mira <mira@harbour.example>"},
		"too long": {strings.Repeat("a", 250) + "@harbour.example"}} {
		_, err := s.Testers.Add(ada, "app", api.NewTesters{Group: "friends", Addresses: addresses})
		assert.ErrorIs(t, err, ground.ErrInvalid, what)
	}
	page, err := s.Testers.List(ada, "app", api.TesterFilter{Limit: 5})
	require.NoError(t, err)
	assert.Empty(t, page.Testers, "all, or none")
	withTesters(t, s, ada, "mira@harbour.example")
	made := releasedAs(t, s, r, "1.0", "the package")
	p, err := s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "testers", Channel: "friends"})
	require.NoError(t, err)
	stands(t, s, p, publication.Out)
	link, _ := linkOf(t, s, ada, "mira")
	trying, err := s.Testers.Page(t.Context(), link)
	require.NoError(t, err)
	trial := trying.Releases[0].Trial
	bomb := append([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x01\x00\x00\x00\x01\x00\x00\x08\x02\x00\x00\x00"),
		0x86, 0x8d, 0x5b, 0x9f)
	for what, say := range map[string]func() error{
		"nothing":              func() error { return s.Testers.Say(t.Context(), link, trial, " \n", nil) },
		"too much":             func() error { return s.Testers.Say(t.Context(), link, trial, strings.Repeat("x", 4001), nil) },
		"no picture":           func() error { return s.Testers.Say(t.Context(), link, trial, "x", []byte("<svg/>")) },
		"half a picture":       func() error { return s.Testers.Say(t.Context(), link, trial, "x", picture(t, 50, 50)[:60]) },
		"a picture of 4 gigas": func() error { return s.Testers.Say(t.Context(), link, trial, "x", bomb) },
		"no device":            func() error { return s.Testers.AddDevice(t.Context(), link, "my phone", "phone") },
		"a device without a name": func() error {
			return s.Testers.AddDevice(t.Context(), link, strings.Repeat("a", 40), "")
		},
	} {
		assert.ErrorIs(t, say(), ground.ErrInvalid, what)
	}
	for i := range 50 {
		require.NoError(t, s.Testers.Say(t.Context(), link, trial, fmt.Sprint(i), nil))
	}
	assert.ErrorIs(t, s.Testers.Say(t.Context(), link, trial, "and", nil), ground.ErrInvalid, "enough for a day")
	for _, guess := range []string{"", "x", strings.Repeat("A", 26), link[:25], link + "A", strings.ToLower(link), "../" + link,
		"\x00"} {
		_, err := s.Testers.Page(t.Context(), guess)
		assert.ErrorIs(t, err, ground.ErrNotFound, "%q", guess)
	}
	require.NoError(t, s.Testers.AddDevice(t.Context(), link, "00008030-001A2B3C4D5E6F70", "Mira's"))
	require.NoError(t, s.Testers.AddDevice(t.Context(), link, "00008030-001a2b3c4d5e6f70", "Mira's phone"), "a better name")
	devices, err := s.Testers.Devices(ada, "app")
	require.NoError(t, err)
	require.Len(t, devices, 1)
	assert.Equal(t, "Mira's phone", devices[0].Name)
	assert.Nil(t, devices[0].Listed, "no profile lists any")
}

// A release for many testers: their mails are queued in a moment, whatever it takes to send them.
func TestMailsToManyAreQueuedAtOnce(t *testing.T) {
	s, _, start := openWithMail(t)
	stop := start()
	r := addRepository(t, s)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	var list []string
	for i := range 10_000 {
		list = append(list, fmt.Sprintf("tester%d@harbour.example", i))
	}
	withTesters(t, s, ada, list...)
	stop() // nothing is sent meanwhile
	made := releasedAs(t, s, r, "1.0", "the package")
	p, err := s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "testers", Channel: "friends"})
	require.NoError(t, err)
	stands(t, s, p, publication.Out)
	queued, before := 0, record.LetterID(0)
	for {
		page, err := s.Letters.List(ada, api.LetterFilter{Before: before, Limit: 200})
		require.NoError(t, err)
		queued += len(page.Letters)
		if before = page.Next; before == 0 {
			break
		}
	}
	assert.Equal(t, len(list), queued)
	steps, err := s.Store.PublicationSteps(ada, made.ID)
	require.NoError(t, err)
	t.Logf("queued within %s", steps[len(steps)-1].At.Sub(steps[len(steps)-2].At))
}
