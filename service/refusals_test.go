package service

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/service/gates"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

func TestWhatGoesToPeopleIsWrittenWholeOrNotAtAll(t *testing.T) {
	s, db := openFailing(t)
	r := addRepository(t, s)
	keeperOf(t, s, "ada")
	at := api.ReleasePath{App: "tide", Name: "1.0"}
	r.commit(map[string]string{"piston/p.toml": "version.file = \"VERSION\"\n" + looks, "piston/app.toml": tide, "VERSION": "1.0\n"})
	packaged(t, s, signing(t, s, "p"), "the package", nil)
	var p api.Publication
	then := func(wanted publication.State) {
		page, err := s.Publish.List(asItself(t), "app", api.PublicationFilter{Limit: 1})
		require.NoError(t, err)
		p = page.Publications[0]
		stands(t, s, store.Publication{ID: p.ID}, wanted)
	}
	for _, step := range []struct {
		what string
		then publication.State // to be waited for: background work has begun
		do   func(ctx context.Context) error
	}{
		{"set an outlet", "", func(ctx context.Context) error {
			_, err := s.Publish.SetOutlet(ctx, "app", "depot", api.NewOutlet{Kind: "folder"})
			return err
		}},
		{"make a release", "", func(ctx context.Context) error {
			_, err := s.Releases.ByHand(ctx, "app", api.NewRelease{Run: 1})
			return err
		}},
		{"list releases", "", func(ctx context.Context) error {
			_, err := s.Releases.List(ctx, "app", api.ReleaseFilter{Limit: 9})
			return err
		}},
		{"plan", "", func(ctx context.Context) error {
			_, err := s.Publish.Plan(ctx, "app", at, api.NewPublication{Outlet: "depot"})
			return err
		}},
		{"publish", publication.Out, func(ctx context.Context) error {
			_, err := s.Publish.ByHand(ctx, "app", at, api.NewPublication{Outlet: "depot"})
			return err
		}},
		{"list publications", "", func(ctx context.Context) error {
			_, err := s.Publish.List(ctx, "app", api.PublicationFilter{Limit: 9})
			return err
		}},
		{"halt", publication.Halted, func(ctx context.Context) error { return s.Publish.Halt(ctx, "app", p.ID) }},
		{"share", publication.Out, func(ctx context.Context) error { return s.Publish.Share(ctx, "app", p.ID, 100) }},
		{"take back", publication.Withdrawn, func(ctx context.Context) error { return s.Publish.Withdraw(ctx, "app", p.ID) }},
		{"withdraw", "", func(ctx context.Context) error {
			return s.Releases.Withdraw(ctx, "app", at, api.Withdrawal{Reason: "x"})
		}},
		{"set where mail goes", "", func(ctx context.Context) error {
			return s.People.SetMail(ctx, "ada", api.MailAddress{Mail: "ada@tidewick.example"})
		}},
		{"list letters", "", func(ctx context.Context) error {
			_, err := s.Letters.List(ctx, api.LetterFilter{Limit: 9})
			return err
		}},
	} {
		eachStatement(t, db, step.what, step.do)
		if step.then != "" {
			then(step.then)
		}
	}
}

func TestAnAnswerIsTakenWholeOrNotAtAll(t *testing.T) {
	s, db := openFailing(t)
	addProject(t, s, "p")
	with(t, s, "ada", access.Keeper)
	with(t, s, "ben", access.Keeper)
	as := func(ctx context.Context, name string) context.Context {
		p, err := s.Store.PersonByName(asItself(t), name)
		require.NoError(t, err)
		return ground.WithWho(ctx, ground.Who{ID: p.ID, Name: name, Kind: api.PersonToken})
	}
	_, gate := asked(t, s, "who = [\"keeper\"]\ncount = 2")
	for _, name := range []string{"ada", "ben"} {
		eachStatement(t, db, name+" answers", func(ctx context.Context) error {
			_, err := s.Gates.Answer(as(ctx, name), "p", gate.ID, api.GateAnswer{Yes: true})
			return err
		})
	}
	eachStatement(t, db, "list gates", func(ctx context.Context) error {
		_, err := s.Gates.List(as(ctx, "ada"), gates.Filter{Limit: 9})
		return err
	})
}

func TestWhatTestersGetIsWrittenWholeOrNotAtAll(t *testing.T) {
	s, db := openFailing(t)
	r := addRepository(t, s)
	at := api.ReleasePath{App: "tide", Name: "1.0"}
	made := releasedAs(t, s, r, "1.0", "the package")
	var o store.Outlet
	var link string
	var id record.TesterID
	var trial record.TrialID
	brought := func(ctx context.Context) error {
		_, err := s.Testers.Groups(o).Bring(ctx, outlet.Offer{Key: "k", App: "tide", Name: "1.0", Channel: "friends",
			Release: made.ID}, func(int64) {})
		return err
	}
	for _, step := range []struct {
		what string
		do   func(ctx context.Context) error
		then func()
	}{
		{"set an outlet", func(ctx context.Context) error {
			_, err := s.Publish.SetOutlet(ctx, "app", "testers", api.NewOutlet{Kind: store.TestersOutlet})
			return err
		}, func() {
			var err error
			o, err = s.Store.OutletByName(asItself(t), made.ProjectID, "testers")
			require.NoError(t, err)
		}},
		{"add testers", func(ctx context.Context) error {
			_, err := s.Testers.Add(ctx, "app", api.NewTesters{Group: "friends", Addresses: []string{"mira@harbour.example",
				"jon@harbour.example"}})
			return err
		}, func() {
			list, err := s.Store.Testers(asItself(t), made.ProjectID, store.TesterFilter{Contains: "mira", Limit: 1})
			require.NoError(t, err)
			link, id = list[0].Link, list[0].ID
		}},
		{"bring", brought, func() {
			page, err := s.Testers.Page(asItself(t), link)
			require.NoError(t, err)
			trial = page.Releases[0].Trial
			list, err := s.Letters.List(asItself(t), api.LetterFilter{Limit: 9})
			require.NoError(t, err)
			require.Len(t, list.Letters, 2, "each once, and all")
			for _, l := range list.Letters { // there is no mail server, by which nothing is to change meanwhile
				_ = s.Store.SetLetter(asItself(t), l.ID, store.LetterSent, "")
			}
		}},
		{"say", func(ctx context.Context) error { return s.Testers.Say(ctx, link, trial, "well", nil) }, func() {
			tried, err := s.Testers.Tried(asItself(t), "app", at)
			require.NoError(t, err)
			require.Len(t, tried.Words, 1)
		}},
		{"tell of a device", func(ctx context.Context) error {
			return s.Testers.AddDevice(ctx, link, "00008030-001A2B3C4D5E6F70", "phone")
		}, nil},
		{"list devices", func(ctx context.Context) error {
			_, err := s.Testers.Devices(ctx, "app")
			return err
		}, nil},
		{"list testers", func(ctx context.Context) error {
			_, err := s.Testers.List(ctx, "app", api.TesterFilter{Limit: 9})
			return err
		}, nil},
		{"see what is tried", func(ctx context.Context) error {
			_, err := s.Testers.Tried(ctx, "app", at)
			return err
		}, nil},
		{"end the mails", func(ctx context.Context) error { return s.Testers.Quiet(ctx, link, true) }, nil},
		{"give another link", func(ctx context.Context) error {
			_, err := s.Testers.NewLink(ctx, "app", id)
			return err
		}, nil},
		{"leave a group", func(ctx context.Context) error { return s.Testers.Drop(ctx, "app", id, "friends") }, nil},
		{"drop", func(ctx context.Context) error { return s.Testers.Drop(ctx, "app", id, "") }, nil},
	} {
		eachStatement(t, db, step.what, step.do)
		if step.then != nil {
			step.then()
		}
	}
}
