package service

import (
	"context"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/letter"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/local/testdb"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/service/publish"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/standin"
)

// openWithMail opens a service whose mail goes to a stand-in. start starts that, and what it returns ends it.
func openWithMail(t *testing.T) (s *Service, box *standin.Mailbox, start func() (stop func())) {
	t.Helper()
	at, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := at.Addr().String()
	require.NoError(t, at.Close())
	box = standin.NewMailbox()
	start = func() func() {
		takes, err := net.Listen("tcp", address)
		require.NoError(t, err)
		page, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- box.Serve(ctx, takes, page) }()
		return func() {
			cancel()
			assert.NoError(t, <-ended)
		}
	}
	s = openWith(t, testdb.New(t), Options{Home: t.TempDir(), Public: "https://builds.tidewick.example",
		Mail: letters.Server{Address: address, From: "builds@tidewick.example", Plain: true}})
	return s, box, start
}

// came waits until so many letters have come.
func came(t *testing.T, box *standin.Mailbox, n int) []standin.Mail {
	t.Helper()
	require.Eventually(t, func() bool { return len(box.Letters()) >= n }, 30*time.Second, 20*time.Millisecond)
	return box.Letters()
}

func TestWhoMayAnswerIsToldByMail(t *testing.T) {
	s, box, start := openWithMail(t)
	defer start()()
	addProject(t, s, "p")
	for _, p := range []struct {
		name string
		role access.Role
	}{{"ada", access.Keeper}, {"ben", access.Builder}, {"eve", access.Nobody}, {"dan", access.Keeper}} {
		with(t, s, p.name, p.role)
		if p.name != "dan" { // who has not said where
			require.NoError(t, s.People.SetMail(asItself(t), p.name, api.MailAddress{Mail: p.name + "@tidewick.example"}))
		}
	}
	_, gate := asked(t, s, "who = [\"keeper\"]\ncount = 2")
	list := came(t, box, 1)
	assert.Equal(t, "ada@tidewick.example", list[0].To)
	assert.Equal(t, "p: "+gate.Question, list[0].Subject)
	assert.Contains(t, list[0].Text, "https://builds.tidewick.example/p/1")
	assert.Contains(t, list[0].HTML, `href="https://builds.tidewick.example/p/1"`)
	assert.Contains(t, list[0].Text, "waits for 2 to say yes")

	// Whatever is done again after a crash: nobody gets the same thing twice.
	require.NoError(t, s.Tx(asItself(t), func(q ground.Q) error { return q.PutOff(asItself(t), work.GateAsked{Gate: gate.ID}) }))
	_, second := asked(t, s, "who = [\"person:ben\"]")
	list = came(t, box, 2)
	assert.Equal(t, "ben@tidewick.example", list[0].To)
	assert.NotEqual(t, gate.ID, second.ID)
	page, err := s.Letters.List(asItself(t), api.LetterFilter{Limit: 9})
	require.NoError(t, err)
	assert.Len(t, page.Letters, 2)

	for _, bad := range []string{"ada", "ada@x.example\r\nBcc: eve@x.example", "Ada <a@x.example>"} {
		assert.ErrorIs(t, s.People.SetMail(asItself(t), "ada", api.MailAddress{Mail: bad}), ground.ErrInvalid, bad)
	}
	assert.ErrorIs(t, s.People.SetMail(asItself(t), "nobody", api.MailAddress{}), ground.ErrNotFound)
	require.NoError(t, s.People.SetMail(asItself(t), "ada", api.MailAddress{}))
	assert.Contains(t, acts(t, s), "person.mail")
}

func TestALetterIsTriedUntilItIsTakenOrRefused(t *testing.T) {
	s, box, start := openWithMail(t)
	write := func(to string) {
		t.Helper()
		require.NoError(t, s.Tx(asItself(t), func(q ground.Q) error {
			return s.Letters.Write(asItself(t), q, "test "+to, to, letter.New(letter.Content{Subject: "Ebb", Lines: []string{"Grüße"}, Foot: "f"}))
		}))
	}
	of := func(to string) api.Letter {
		page, err := s.Letters.List(asItself(t), api.LetterFilter{Contains: to, Limit: 1})
		require.NoError(t, err)
		require.Len(t, page.Letters, 1)
		return page.Letters[0]
	}
	write("ada@tidewick.example") // the mail server is away
	require.Eventually(t, func() bool { return of("ada").Trouble != "" }, 30*time.Second, 50*time.Millisecond)
	assert.Equal(t, "queued", of("ada").State)
	var full atomic.Bool
	full.Store(true)
	box.Refusing(func(to string) error {
		switch {
		case strings.HasPrefix(to, "gone"):
			return standin.ErrNobody
		case full.Load() && strings.HasPrefix(to, "full"):
			return standin.ErrFull
		}
		return nil
	})
	stop := start()
	write("gone@tidewick.example")
	write("full@tidewick.example")
	require.Eventually(t, func() bool { return of("gone").State == "refused" }, 30*time.Second, 50*time.Millisecond)
	assert.Contains(t, of("gone").Trouble, "nobody of that name")
	require.Eventually(t, func() bool { return of("full").Trouble != "" }, 30*time.Second, 50*time.Millisecond)
	assert.Equal(t, "queued", of("full").State, "full is not gone")
	full.Store(false)
	list := came(t, box, 2)
	assert.Contains(t, list[0].Text, "Grüße")
	require.Eventually(t, func() bool { return of("ada").State == "sent" && of("full").State == "sent" }, 30*time.Second, 50*time.Millisecond)
	assert.Empty(t, of("ada").Trouble)
	assert.NotNil(t, of("ada").Ended)
	stop()
}

func TestMailGoesNowhereInTheOpen(t *testing.T) {
	for _, ok := range []letters.Server{{}, {Address: "mail.tidewick.example:587"}, {Address: "127.0.0.1:25", Plain: true},
		{Address: "localhost:25", Plain: true}, {Address: "[::1]:25", Plain: true}} {
		assert.NoError(t, ok.Check(), ok.Address)
	}
	for _, bad := range []letters.Server{{Address: "mail.tidewick.example"}, {Address: "mail.tidewick.example:25", Plain: true},
		{Address: "10.0.0.1:25", Plain: true}, {Address: ":25"}} {
		assert.Error(t, bad.Check(), bad.Address)
	}
}

func TestKeepersAreToldWhenSomebodyHasToDoSomething(t *testing.T) {
	s, box, start := openWithMail(t)
	defer start()()
	r := addRepository(t, s)
	keeper := keeperOf(t, s, "ada")
	ada := ground.WithWho(t.Context(), keeper)
	addPerson(t, s, "ben")
	for _, name := range []string{"ada", "ben"} {
		require.NoError(t, s.People.SetMail(asItself(t), name, api.MailAddress{Mail: name + "@tidewick.example"}))
	}
	withOutlet(t, s, ada, "depot")
	made := releasedAs(t, s, r, "1.0", "the package")
	p, err := s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "depot", Share: 10})
	require.NoError(t, err)
	stands(t, s, p, publication.Refused)
	p, err = s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "depot"})
	require.NoError(t, err)
	stands(t, s, p, publication.Out)
	letters := came(t, box, 1)
	time.Sleep(2 * time.Second)
	require.Len(t, box.Letters(), 1, "once, to the keeper, and nothing of what went well")
	assert.Equal(t, "ada@tidewick.example", letters[0].To)
	assert.Equal(t, "tide 1.0 at depot is refused.", letters[0].Subject)
	assert.Contains(t, letters[0].Text, "a share other than 100 means nothing here")
	assert.Contains(t, letters[0].Text, "https://builds.tidewick.example/app/releases/tide/1.0")
}
