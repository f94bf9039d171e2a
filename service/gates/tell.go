package gates

import (
	"context"
	"errors"
	"fmt"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/letter"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
)

// tell writes to those who may answer a gate and get mail.
func (s *Gates) tell(ctx context.Context, of work.GateAsked) error {
	if !s.letters.Sends() {
		return nil
	}
	ctx = ground.AsItself(ctx)
	g, err := s.Store.GateByID(ctx, of.Gate)
	if errors.Is(err, store.ErrNotFound) || err == nil && g.Outcome != "" {
		return nil // it is over, or its run is gone
	}
	if err != nil {
		return err
	}
	all, err := s.Store.PeopleWithMail(ctx)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		for _, p := range all {
			w := ground.Who{ID: p.ID, Name: p.Name, Kind: api.PersonToken, Administrator: p.Administrator || p.ByGroup}
			why, err := someone(w).mayNot(ctx, q.Q, g)
			if err != nil {
				return err
			}
			if why != "" {
				continue
			}
			if err := s.letters.Write(ctx, q, fmt.Sprintf("gate %d %d", g.ID, p.ID), p.Mail, s.question(g)); err != nil {
				return err
			}
		}
		return nil
	})
}

// question is the letter that asks. Its link leads to the run's page, which wants one to sign in.
func (s *Gates) question(g store.Gate) letter.Letter {
	c := letter.Content{Subject: fmt.Sprintf("%s: %s", g.Project, g.Ask.V.Question), Action: "Answer on the run's page",
		Link: s.letters.Link(fmt.Sprintf("/%s/%d", g.Project, g.Run)),
		Lines: []string{g.Ask.V.Question,
			fmt.Sprintf("Run %d of %s (%s) waits for %d to say yes, until %s. One no ends it.", g.Run, g.Project, g.Pipeline,
				g.Ask.V.Yeses(), g.Until.UTC().Format("Monday 2 January 15:04 MST"))},
		Foot: "You get this since you may answer it. Piston, the build service of " + g.Project + ", writes to nobody else."}
	if c.Link == "" {
		c.Lines = append(c.Lines, fmt.Sprintf("Answer: piston answer %s %d yes, or no", g.Project, g.Run))
	}
	return letter.New(c)
}
