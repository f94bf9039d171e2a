package publish

import (
	"context"
	"fmt"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/letter"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// told is what keepers are told of by mail, since somebody has to do something; "" when nobody has.
func told(before, now store.Publication) (what string, lines []string) {
	where := fmt.Sprintf("%s %s at %s", now.App, now.Name, now.Outlet)
	switch {
	case now.State == publication.Refused && before.State != publication.Refused:
		return "refused", append([]string{where + " is refused."}, now.Reasons.V...)
	case len(now.Asks.V) > 0 && len(before.Asks.V) == 0:
		return "asks", append([]string{where + " waits for an answer."}, now.Asks.V...)
	case now.State == publication.Accepted && now.Hold && before.State != publication.Accepted:
		return "accepted", []string{where + " is accepted, and kept back. Somebody has to say to how many people it goes."}
	}
	return "", nil
}

// tellKeepers writes to the keepers of a project who get mail, in the transaction of what they are told.
func (s *Publish) tellKeepers(ctx context.Context, q ground.Q, before, now store.Publication) error {
	what, lines := told(before, now)
	if what == "" || !s.letters.Sends() {
		return nil
	}
	all, err := q.PeopleWithMail(ctx)
	if err != nil {
		return err
	}
	l := letter.New(letter.Content{Subject: lines[0], Lines: lines[:min(len(lines), 20)], Action: "See the release's page",
		Link: s.letters.Link(fmt.Sprintf("/%s/releases/%s/%s", now.Project, now.App, now.Name)),
		Foot: "You get this as a keeper of " + now.Project + "."})
	for _, p := range all {
		who := ground.Who{ID: p.ID, Name: p.Name, Kind: api.PersonToken, Administrator: p.Administrator || p.ByGroup}
		role, err := ground.RoleIn(ctx, q.Q, who, now.Project)
		if err != nil {
			return err
		}
		if !role.Covers(access.Keeper) {
			continue
		}
		key := fmt.Sprintf("publication %d %s %d", now.ID, what, p.ID)
		if err := s.letters.Write(ctx, q, key, p.Mail, l); err != nil {
			return err
		}
	}
	return nil
}
