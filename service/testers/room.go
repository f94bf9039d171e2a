// Package testers is the room of people who try releases: they have a mail address and no account. A link of their own
// leads to a page with what they may have, and what they say of it lands on the release.
package testers

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/letter"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/service/releases"
	"gentlepiston.example/piston/store"
)

// Testers is the room of testers.
type Testers struct {
	*ground.Ground
	letters  *letters.Letters
	releases *releases.Releases
	blobs    *blob.Blobs
}

// New makes it.
func New(g *ground.Ground, l *letters.Letters, r *releases.Releases, blobs *blob.Blobs) *Testers {
	return &Testers{g, l, r, blobs}
}

// MaxTesters is how many a project may have.
const MaxTesters = 50_000

// Path is where the page of a link is.
func Path(link string) string { return "/t/" + link }

// Add puts people into a group; who is no tester yet becomes one. All of them, or none.
func (s *Testers) Add(ctx context.Context, project string, in api.NewTesters) (out api.AddedTesters, err error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return out, err
	}
	if !action.NameForm.MatchString(in.Group) {
		return out, ground.Saying(ground.ErrInvalid, "%.60q is no name of a group: use letters, digits and . _ -", in.Group)
	}
	var addresses []string
	for _, a := range in.Addresses {
		a = strings.TrimSpace(a)
		if err := letter.Address(a); err != nil {
			return out, fmt.Errorf("%.100q is %w: %w", a, ground.ErrInvalid, err)
		}
		at := strings.LastIndexByte(a, '@') // names of hosts are the same in small letters
		addresses = append(addresses, a[:at]+strings.ToLower(a[at:]))
	}
	slices.Sort(addresses)
	addresses = slices.Compact(addresses)
	links := make([]string, len(addresses))
	for i := range links {
		links[i] = rand.Text()
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		out.Added, out.Joined, err = q.AddTesters(ctx, p.ID, in.Group, ground.WhoAsks(ctx).Name, addresses, links)
		if err != nil {
			return err
		}
		n, err := q.CountTesters(ctx, p.ID)
		if err != nil {
			return err
		}
		if n > MaxTesters {
			return ground.Saying(ground.ErrInvalid, "a project may have %d testers, and these would be %d", MaxTesters, n)
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.TesterAdd, Project: project, Subject: in.Group, After: out})
	})
	return out, err
}

// List lists the testers of a project.
func (s *Testers) List(ctx context.Context, project string, f api.TesterFilter) (page api.TesterPage, err error) {
	page.Testers = []api.Tester{}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return page, err
	}
	list, err := s.Store.Testers(ctx, p.ID, store.TesterFilter{Group: f.Group, Contains: f.Contains, After: f.After,
		Limit: f.Limit + 1})
	for i, t := range list {
		if i == f.Limit {
			page.Next = list[i-1].ID
			break
		}
		page.Testers = append(page.Testers, api.Tester{ID: t.ID, Address: t.Address,
			Groups: ground.NonNil([]string(t.Groups)), Link: s.letters.Link(Path(t.Link)), Added: t.Added, By: t.AddedBy,
			Quiet: t.Quiet, Downloads: t.Downloads,
			Trouble: t.Trouble,
			Last:    t.Last})
	}
	return page, err
}

// change does something with a tester of a project, and tells of it without saying who it is.
func (s *Testers) change(ctx context.Context, project string, id record.TesterID, kind fact.Kind, group string,
	do func(q ground.Q) error) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	told := fact.Fact{Kind: kind, Project: project, Subject: fmt.Sprintf("tester %d", id), After: group}
	return s.Acting(ctx, told, func(q ground.Q) error {
		if _, err := q.TesterByID(ctx, p.ID, id); err != nil {
			return ground.Known(err, "tester %d of %s", id, project)
		}
		return ground.Known(do(q), "tester %d in group %s", id, group)
	})
}

// Drop takes a tester out of a group; with no group, out of the project: their link leads nowhere any more.
func (s *Testers) Drop(ctx context.Context, project string, id record.TesterID, group string) error {
	return s.change(ctx, project, id, fact.TesterDrop, group, func(q ground.Q) error {
		if group != "" {
			return q.LeaveGroup(ctx, id, group)
		}
		return q.DropTester(ctx, id)
	})
}

// NewLink gives a tester another link. The one before leads nowhere any more.
func (s *Testers) NewLink(ctx context.Context, project string, id record.TesterID) (out api.TesterLink, err error) {
	link := rand.Text()
	err = s.change(ctx, project, id, fact.TesterLink, "", func(q ground.Q) error { return q.SetTesterLink(ctx, id, link) })
	return api.TesterLink{Link: s.letters.Link(Path(link))}, err
}

// Devices lists the devices of a project's testers, and whether the last profile lists them.
func (s *Testers) Devices(ctx context.Context, project string) ([]api.TestDevice, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.TestDevices(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	named, err := s.lastNamed(ctx, p.ID)
	out := make([]api.TestDevice, len(list))
	for i, d := range list {
		out[i] = api.TestDevice{Tester: d.Tester, Address: d.Address, Device: d.Device, Name: d.Name, Added: d.Added}
		if len(named) > 0 {
			listed := listedIn(named, d.Device)
			out[i].Listed = &listed
		}
	}
	return out, err
}

func listedIn(named []string, device string) bool {
	return slices.ContainsFunc(named, func(other string) bool { return strings.EqualFold(other, device) })
}

// lastNamed lists the devices that the profile of the last release names which testers of a project could have.
func (s *Testers) lastNamed(ctx context.Context, project record.ProjectID) ([]string, error) {
	id, err := s.Store.LastTried(ctx, project)
	if err != nil || id == 0 {
		return nil, err
	}
	parts, err := s.Store.ReleaseParts(ctx, id)
	for _, p := range parts {
		facts, err := s.Store.PackageFacts(ctx, p.ID)
		if err != nil {
			return nil, err
		}
		if facts.Profile != nil {
			return facts.Profile.Named, nil
		}
	}
	return nil, err
}

// Tried tells how a release fares with testers.
func (s *Testers) Tried(ctx context.Context, project string, at api.ReleasePath) (out api.Tried, err error) {
	out = api.Tried{Groups: []api.TriedGroup{}, Words: []api.TesterWord{}}
	r, err := s.releases.Find(ctx, project, at)
	if err != nil {
		return out, err
	}
	groups, err := s.Store.TrialsOf(ctx, r.ID)
	if err != nil {
		return out, err
	}
	for _, g := range groups {
		out.Groups = append(out.Groups, api.TriedGroup{ID: g.ID, Group: g.Group, Note: g.Note, Begun: g.Begun, Ends: g.Ends,
			Halted: g.Halted, Testers: g.Testers, Downloaded: g.Downloaded})
	}
	words, err := s.Store.Words(ctx, r.ID, maxWords)
	for _, w := range words {
		said := api.TesterWord{ID: w.ID, At: w.At, Text: w.Text, Picture: w.Pictured}
		if w.Tester != nil {
			said.Tester = *w.Tester
		}
		out.Words = append(out.Words, said)
	}
	return out, err
}

// Picture is what came with a word: a JPEG.
func (s *Testers) Picture(ctx context.Context, project string, id record.WordID) ([]byte, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	picture, err := s.Store.Picture(ctx, p.ID, id)
	return picture, ground.Known(err, "picture %d of %s", id, project)
}

// The bounds of what a tester may say.
const (
	maxWords     = 500 // of a release that are shown
	maxWordsADay = 50  // of a tester
	maxWord      = 4000
	day          = 24 * time.Hour
)
