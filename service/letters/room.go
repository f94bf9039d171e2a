// Package letters is the room of mail: what is written in the transaction of what it tells, and sent by a mail server
// (SMTP, RFC 5321) afterwards. It is tried again for a day; what a server refuses is shown. Nobody gets the same thing
// twice, but where a mail server has taken a letter and this one is killed before that is noted: such a letter comes
// again under the same Message-ID, by which programs that read mail know it.
package letters

import (
	"context"
	"slices"

	"github.com/riverqueue/river"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/letter"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Letters is the room of mail.
type Letters struct {
	*ground.Ground
	server Server
	public string // address by which people reach the console; "" when that is not known
}

// New makes it.
func New(g *ground.Ground, server Server, public string) *Letters {
	s := &Letters{g, server, public}
	ground.Does(g, s.due)
	return s
}

// letterDue is a letter that is to be sent.
type letterDue struct {
	Letter record.LetterID `json:"letter"`
}

// Kind implements river.JobArgs.
func (letterDue) Kind() string { return "letter" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (letterDue) InsertOpts() river.InsertOpts { return river.InsertOpts{Queue: ground.Mail} }

// Sends tells whether there is a mail server, so that it is worth writing.
func (s *Letters) Sends() bool { return s.server.Address != "" }

// Link is where a page of the console is; "" when nobody can tell by what address people reach it.
func (s *Letters) Link(path string) string {
	if s.public == "" {
		return ""
	}
	return s.public + path
}

// Write writes a letter in a transaction. key says what it is about and to whom: the same is written once.
func (s *Letters) Write(ctx context.Context, q ground.Q, key, to string, l letter.Letter) error {
	id, err := q.AddLetter(ctx, store.Letter{Key: key, To: to, Subject: l.Subject, Plain: l.Text, HTML: l.HTML})
	if err != nil || id == 0 {
		return err
	}
	return q.PutOff(ctx, letterDue{id})
}

// Addressed is a letter to somebody who has no account. Stop is where they end such letters.
type Addressed struct {
	Key, To, Stop string
	letter.Letter
}

// atOnce is how many letters are written by one statement.
const atOnce = 500

// WriteAll writes many letters in a transaction, each once.
func (s *Letters) WriteAll(ctx context.Context, q ground.Q, all []Addressed) error {
	for some := range slices.Chunk(all, atOnce) {
		list := make([]store.Letter, len(some))
		for i, l := range some {
			list[i] = store.Letter{Key: l.Key, To: l.To, Subject: l.Subject, Plain: l.Text, HTML: l.HTML, Stop: l.Stop}
		}
		ids, err := q.AddLetters(ctx, list)
		if err != nil || len(ids) == 0 {
			return err
		}
		due := make([]river.JobArgs, len(ids))
		for i, id := range ids {
			due[i] = letterDue{id}
		}
		if err := q.PutOff(ctx, due...); err != nil {
			return err
		}
	}
	return nil
}

// List lists letters, newest first, without what they say.
func (s *Letters) List(ctx context.Context, f api.LetterFilter) (page api.LetterPage, err error) {
	page.Letters = []api.Letter{}
	list, err := s.Store.Letters(ctx, store.LetterFilter{State: f.State, Contains: f.Contains, Before: f.Before,
		Limit: f.Limit + 1})
	for i, l := range list {
		if i == f.Limit {
			page.Next = list[i-1].ID
			break
		}
		page.Letters = append(page.Letters, api.Letter{ID: l.ID, To: l.To, Subject: l.Subject, State: l.State,
			Trouble: l.Trouble, Queued: l.Queued, Ended: l.Ended})
	}
	return page, err
}
