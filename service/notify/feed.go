package notify

import (
	"context"
	"encoding/xml"
	"fmt"
	"html/template"
	"strings"
	"time"

	"gentlepiston.example/piston/core/plain"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// byKey finds the project that an address of a feed leads to.
func (s *Notify) byKey(ctx context.Context, key string) (store.Project, error) {
	p, err := s.Store.ProjectByFeedKey(ctx, key)
	return p, ground.Known(err, "a feed at this address")
}

// feedOf is how many runs a feed has.
const feedOf = 40

// atomFeed is a feed (RFC 4287).
type atomFeed struct {
	XMLName xml.Name    `xml:"http://www.w3.org/2005/Atom feed"`
	ID      string      `xml:"id"`
	Title   string      `xml:"title"`
	Updated string      `xml:"updated"`
	Entries []atomEntry `xml:"entry"`
}

type atomEntry struct {
	ID      string     `xml:"id"`
	Title   string     `xml:"title"`
	Updated string     `xml:"updated"`
	Author  atomPerson `xml:"author"`
	Link    *atomLink  `xml:"link,omitempty"`
	Summary string     `xml:"summary"`
}

type atomPerson struct {
	Name string `xml:"name"`
}

type atomLink struct {
	Href string `xml:"href,attr"`
}

// Atom writes a project's last runs that are over as a feed (RFC 4287).
func (s *Notify) Atom(ctx context.Context, key string) ([]byte, error) {
	p, err := s.byKey(ctx, key)
	if err != nil {
		return nil, err
	}
	runs, err := s.Store.Runs(ctx, p.ID, store.RunFilter{Limit: feedOf})
	if err != nil {
		return nil, err
	}
	id := fmt.Sprintf("tag:piston.invalid,2026:%s", p.Name) // RFC 4151; it names, and leads nowhere
	feed := atomFeed{ID: id, Title: "Runs of " + p.Name}
	updated := p.Created // runs end in another order than they begin
	for _, r := range runs {
		if r.Finished == nil {
			continue
		}
		if r.Finished.After(updated) {
			updated = *r.Finished
		}
		e := atomEntry{ID: fmt.Sprintf("%s/%d/%d", id, r.Number, r.Reopenings), Updated: atomTime(*r.Finished),
			Title:   fmt.Sprintf("%s: run %d, %s of %s", r.State, r.Number, r.Pipeline, plain.Line(r.Branch+r.Tag)),
			Author:  atomPerson{plain.Line(r.Author)},
			Summary: plain.Line(strings.TrimSuffix(r.Subject+". "+r.FailedAt, ". "))}
		if e.Author.Name == "" {
			e.Author.Name = p.Name
		}
		if to := s.letters.Link(fmt.Sprintf("/%s/%d", p.Name, r.Number)); to != "" {
			e.Link = &atomLink{to}
		}
		feed.Entries = append(feed.Entries, e)
	}
	feed.Updated = atomTime(updated)
	text, err := xml.MarshalIndent(feed, "", "  ")
	return append([]byte(xml.Header), text...), err
}

// atomTime is a date as RFC 4287, section 3.3, wants it.
func atomTime(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// badge has a word and a sign: its colour alone tells nothing. Widths are of a plain face at 11 px.
var badge = template.Must(template.New("badge").Parse(`<svg xmlns="http://www.w3.org/2000/svg" width="{{.Width}}" ` +
	`height="20" role="img" aria-label="{{.Name}}: {{.Word}}"><title>{{.Name}}: {{.Word}}</title>` +
	`<rect width="{{.Width}}" height="20" rx="4" fill="#2d383b"/><rect x="{{.Left}}" width="{{.Right}}" height="20" ` +
	`rx="4" fill="{{.Colour}}"/><g fill="#fff" font-family="sans-serif" font-size="11"><text x="8" y="14">` +
	`{{.Name}}</text><text x="{{.At}}" y="14">{{.Sign}} {{.Word}}</text></g></svg>`))

var badgeLooks = map[state.State][2]string{state.Passed: {"✓", "#23673a"}, state.Failed: {"✗", "#a8231b"},
	state.TimedOut: {"◷", "#8c4300"}}

// Badge draws how the last run of a pipeline on a branch stands that is over; of any, where they are "".
func (s *Notify) Badge(ctx context.Context, key, pipeline, branch string) ([]byte, error) {
	p, err := s.byKey(ctx, key)
	if err != nil {
		return nil, err
	}
	runs, err := s.Store.Runs(ctx, p.ID, store.RunFilter{Pipeline: pipeline, Branch: branch, Limit: feedOf})
	if err != nil {
		return nil, err
	}
	word, look := "no run yet", [2]string{"·", "#5a6468"}
	for _, r := range runs {
		if l, tells := badgeLooks[r.State]; tells && !r.Outside {
			word, look = string(r.State), l
			break
		}
	}
	name := p.Name
	if pipeline != "" {
		name = plain.Line(pipeline)
	}
	const letter, pad = 7, 16
	left, right := len([]rune(name))*letter+pad, (len([]rune(word))+2)*letter+pad
	var b strings.Builder
	err = badge.Execute(&b, map[string]any{"Name": name, "Word": word, "Sign": look[0], "Colour": look[1],
		"Width": left + right, "Left": left, "Right": right, "At": left + pad/2})
	return []byte(b.String()), err
}
