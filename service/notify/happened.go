package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/letter"
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// told is a piece of news as it is told.
type told struct {
	project store.Project
	kind    news.Kind
	key     string
	subject string   // in a line
	lines   []string // more of it, for people
	path    string   // of its page
	data    any      // for programs
	mine    []string // whose it is, by name
	at      time.Time
}

// runOver tells that a run is over, and what that means for its branch.
func (s *Notify) runOver(ctx context.Context, of RunOver) error {
	run, err := s.Store.RunByID(ctx, of.Run)
	if errors.Is(err, store.ErrNotFound) || err == nil && !run.State.Over() {
		return nil // it is gone, or was opened again: its next end is news
	}
	if err != nil {
		return err
	}
	p, err := s.Store.ProjectByID(ctx, run.ProjectID)
	if err != nil {
		return err
	}
	if run.Bisection != 0 { // what is tried is no news; what is found by it is
		return nil
	}
	before, err := s.Store.StateBefore(ctx, run)
	if err != nil {
		return err
	}
	where := run.Branch
	if run.Tag != "" {
		where = run.Tag
	}
	n := told{project: p, kind: news.RunEnded, key: fmt.Sprintf("run %d %d", run.ID, of.Reopenings),
		subject: fmt.Sprintf("Run %d of %s, %s of %s: %s", run.Number, p.Name, run.Pipeline, where, run.State),
		path:    fmt.Sprintf("/%s/%d", p.Name, run.Number), data: ground.RunOf(run),
		mine:  []string{run.StartedBy, run.Author},
		lines: []string{run.Subject}, at: time.Now()}
	if run.Finished != nil {
		n.at = *run.Finished
	}
	if run.FailedAt != "" {
		n.lines = append(n.lines, "It failed at "+run.FailedAt+".")
	}
	if run.Reason != "" {
		n.lines = append(n.lines, run.Reason)
	}
	if err := s.spread(ctx, n); err != nil || run.Outside {
		return err
	}
	if n.kind = news.Change(before, string(run.State)); n.kind == "" {
		return nil
	}
	n.key += " " + string(n.kind)
	word := map[news.Kind]string{news.PipelineBroke: "broke", news.PipelineMended: "passes again"}[n.kind]
	n.subject = fmt.Sprintf("%s of %s %s in %s (run %d)", run.Pipeline, where, word, p.Name, run.Number)
	return s.spread(ctx, n)
}

// happened tells other news.
func (s *Notify) happened(ctx context.Context, of Happened) error {
	p, err := s.Store.ProjectByID(ctx, of.Project)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return s.spread(ctx, told{project: p, kind: of.What, key: of.Key, subject: of.Subject, path: of.Path, data: of.Data,
		mine: of.Mine, at: time.Now()})
}

// spread writes what is told to everybody who wants to hear it, all of it or none.
func (s *Notify) spread(ctx context.Context, n told) error {
	return s.Tx(ctx, func(q ground.Q) error {
		hooks, err := q.Webhooks(ctx, n.project.ID)
		if err != nil {
			return err
		}
		for _, w := range hooks {
			if w.Paused == "" && slices.Contains(w.Kinds, string(n.kind)) {
				if err := s.write(ctx, q, w, n); err != nil {
					return err
				}
			}
		}
		return s.mail(ctx, q, n)
	})
}

// cloudEvent is an event in JSON (CloudEvents 1.0.2, JSON Event Format 1.0.2).
type cloudEvent struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject,omitempty"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        any       `json:"data"`
}

// typePrefix makes types of events unlike those of others, as the standard wishes (3.1.1, type).
const typePrefix = "example.gentlepiston."

// write writes a message to a webhook, once.
func (s *Notify) write(ctx context.Context, q ground.Q, w store.Webhook, n told) error {
	source := s.letters.Link("/" + n.project.Name)
	if source == "" {
		source = "/" + n.project.Name
	}
	body, err := json.Marshal(cloudEvent{"1.0", strings.ReplaceAll(n.key, " ", "-"), source, typePrefix + string(n.kind),
		n.path, n.at.UTC(), "application/json", map[string]any{"summary": n.subject, "detail": n.data}})
	if err != nil {
		return err
	}
	id, err := q.AddMessage(ctx, store.Message{WebhookID: w.ID, Key: n.key, Kind: string(n.kind), Body: string(body)})
	if err != nil || id == 0 {
		return err
	}
	return q.PutOff(ctx, messageDue{id})
}

// mail writes to the people who want to hear it, and may.
func (s *Notify) mail(ctx context.Context, q ground.Q, n told) error {
	if !s.letters.Sends() {
		return nil
	}
	all, err := q.PeopleWithMail(ctx)
	if err != nil || len(all) == 0 {
		return err
	}
	wishes, err := q.WishesFor(ctx, n.project.ID)
	if err != nil {
		return err
	}
	for _, p := range all {
		who := ground.Who{ID: p.ID, Name: p.Name, Kind: api.PersonToken, Administrator: p.Administrator || p.ByGroup}
		role, err := ground.RoleIn(ctx, q.Q, who, n.project.Name)
		if err != nil {
			return err
		}
		wants, chosen := wishes[p.ID]
		if !chosen {
			wants = news.ForPeople(role.Covers(access.Keeper))
		}
		if !role.Covers(access.Reader) || !wanted(wants, n, p.Name) {
			continue
		}
		l := letter.New(letter.Content{Subject: n.subject, Lines: n.lines, Action: "See its page",
			Link: s.letters.Link(n.path), Foot: "What you are told of is chosen on your own page."})
		if err := s.letters.Write(ctx, q, fmt.Sprintf("news %s %d", n.key, p.ID), p.Mail, l); err != nil {
			return err
		}
	}
	return nil
}

// wanted tells whether somebody wants to be told.
func wanted(wants []string, n told, name string) bool {
	if slices.Contains(wants, string(n.kind)) {
		return true
	}
	own := slices.ContainsFunc(n.mine, func(m string) bool { return strings.EqualFold(m, name) })
	return own && slices.Contains(news.OfMine, n.kind) && slices.Contains(wants, news.Mine)
}
