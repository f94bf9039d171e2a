package service

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/publication"
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
