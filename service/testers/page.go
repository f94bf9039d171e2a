package testers

import (
	"context"
	"errors"
	"io"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plain"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

func number(ref string) (record.TrialID, error) {
	n, err := strconv.ParseInt(ref, 10, 64)
	return record.TrialID(n), err
}

// maxShown is how many releases a page shows.
const maxShown = 20

// linkForm is what a link looks like; anything else is not even looked for.
var linkForm = regexp.MustCompile(`^[A-Z2-7]{26}$`)

// tester finds whose page a link leads to. Of a link that leads nowhere nothing more is said.
func (s *Testers) tester(ctx context.Context, link string) (t store.Tester, err error) {
	if linkForm.MatchString(link) {
		t, err = s.Store.TesterByLink(ctx, link)
	} else {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		return t, ground.Saying(ground.ErrNotFound, "This link leads nowhere. Ask whoever has given it to you for another.")
	}
	return t, err
}

// Page is what the page of a link shows.
func (s *Testers) Page(ctx context.Context, link string) (page api.Trying, err error) {
	t, err := s.tester(ctx, link)
	if err != nil {
		return page, err
	}
	page = api.Trying{Project: t.Project, Quiet: t.Quiet, Link: s.letters.Link(Path(link))}
	devices, err := s.Store.TestDevicesOf(ctx, t.ID)
	if err != nil {
		return page, err
	}
	for _, d := range devices {
		page.Devices = append(page.Devices, api.TestDevice{Device: d.Device, Name: d.Name, Added: d.Added})
	}
	list, err := s.Store.TrialsFor(ctx, t.ID, maxShown)
	if err != nil {
		return page, err
	}
	for _, trial := range list {
		r, err := s.trying(ctx, trial, devices)
		if err != nil {
			return page, err
		}
		page.Releases = append(page.Releases, r)
	}
	return page, nil
}

// trying is a release as a tester may have it.
func (s *Testers) trying(ctx context.Context, t store.Trial, devices []store.TestDevice) (out api.TryingRelease,
	err error) {
	r, err := s.Store.ReleaseByID(ctx, t.ReleaseID)
	if err != nil {
		return out, err
	}
	out = api.TryingRelease{Trial: t.ID, App: r.App, Name: r.Name, Builds: r.Builds.V, Begun: t.Begun, Ends: t.Ends,
		Note: t.Note}
	if out.Notes, err = s.releases.Notes(ctx, r); err != nil {
		return out, err
	}
	parts, err := s.Store.ReleaseParts(ctx, r.ID)
	if err != nil {
		return out, err
	}
	for _, p := range parts {
		if !installable(p.Kind) {
			continue
		}
		f, err := s.Store.PackageFacts(ctx, p.ID)
		if err != nil {
			return out, err
		}
		file := api.TryingFile{Artifact: p.Artifact, File: path.Base(p.File), Kind: p.Kind, ID: p.App, Label: f.Label,
			Version: p.Version, Build: p.Build, Size: p.Size, SHA256: p.SHA256, Lowest: f.Lowest, Picture: f.Picture}
		if f.Profile != nil && len(f.Profile.Named) > 0 {
			file.Lists = true
			for _, d := range devices {
				if !listedIn(f.Profile.Named, d.Device) {
					file.Unlisted = append(file.Unlisted, d.Name)
				}
			}
		}
		out.Files = append(out.Files, file)
	}
	return out, nil
}

// Release finds a release that a tester may have, and nothing else.
func (s *Testers) Release(ctx context.Context, link string, id record.TrialID) (t store.Tester, out api.TryingRelease,
	err error) {
	if t, err = s.tester(ctx, link); err != nil {
		return t, out, err
	}
	list, err := s.Store.TrialsFor(ctx, t.ID, maxShown)
	for _, trial := range list {
		if trial.ID == id {
			out, err = s.trying(ctx, trial, nil)
			return t, out, err
		}
	}
	if err == nil {
		err = ground.Saying(ground.ErrNotFound, "This is not there any more: its time is over, or it was taken back.")
	}
	return t, out, err
}

// File finds a package that a tester may have by its name, and opens it. It counts as fetched when it is read from its
// beginning.
func (s *Testers) File(ctx context.Context, link string, id record.TrialID, artifact record.ArtifactID, name string,
	begins bool) (f api.TryingFile, content io.ReadSeeker, err error) {
	t, r, err := s.Release(ctx, link, id)
	if err != nil {
		return f, nil, err
	}
	for _, one := range r.Files {
		if one.Artifact != artifact || one.File != name {
			continue
		}
		kept, err := s.Store.ArtifactBlob(ctx, artifact)
		if err != nil {
			return f, nil, err
		}
		if begins {
			err = s.Store.CountDownload(ctx, id, t.ID, one.File)
		}
		return one, io.NewSectionReader(s.blobs.At(ctx, kept), 0, one.Size), err
	}
	return f, nil, ground.Saying(ground.ErrNotFound, "There is no such file.")
}

// Quiet ends the mails to a tester, or has them come again.
func (s *Testers) Quiet(ctx context.Context, link string, quiet bool) error {
	t, err := s.tester(ctx, link)
	if err == nil {
		err = s.Store.SetQuiet(ctx, t.ID, quiet)
	}
	return err
}

// deviceForm is what the identifier of an iOS device looks like: 40 hexadecimal digits, or 8 and 16.
var deviceForm = regexp.MustCompile(`^([0-9A-Fa-f]{40}|[0-9A-Fa-f]{8}-[0-9A-Fa-f]{16})$`)

// maxDevices is how many a tester may tell of.
const maxDevices = 10

// AddDevice takes a device of a tester, which a provisioning profile has to list.
func (s *Testers) AddDevice(ctx context.Context, link, device, name string) error {
	t, err := s.tester(ctx, link)
	if err != nil {
		return err
	}
	device, name = strings.TrimSpace(device), plain.Line(name)
	if !deviceForm.MatchString(device) {
		return ground.Saying(ground.ErrInvalid, "%.60q identifies no device: it has 40 digits and letters up to f, or 8 and "+
			"16 of them with a - between.", device)
	}
	if name == "" || len(name) > 60 {
		return ground.Saying(ground.ErrInvalid, "Give the device a name, of up to 60 letters.")
	}
	return s.Tx(ctx, func(q ground.Q) error {
		list, err := q.TestDevicesOf(ctx, t.ID)
		if err != nil {
			return err
		}
		if len(list) >= maxDevices {
			return ground.Saying(ground.ErrInvalid, "You have told of %d devices already, and more are not taken.", maxDevices)
		}
		return q.AddTestDevice(ctx, t.ID, strings.ToUpper(device), name)
	})
}

// Say takes what a tester says of a release. picture is what came with it, or nil.
func (s *Testers) Say(ctx context.Context, link string, id record.TrialID, text string, picture []byte) error {
	t, _, err := s.Release(ctx, link, id)
	if err != nil {
		return err
	}
	text = plain.Text(text)
	if text == "" && picture == nil || len([]rune(text)) > maxWord {
		return ground.Saying(ground.ErrInvalid, "Write a word, of up to %d letters.", maxWord)
	}
	if picture != nil {
		if picture, err = redraw(ctx, picture); err != nil {
			return err
		}
	}
	return s.Tx(ctx, func(q ground.Q) error {
		n, err := q.WordsSince(ctx, t.ID, time.Now().Add(-day))
		if err != nil {
			return err
		}
		if n >= maxWordsADay {
			return ground.Saying(ground.ErrInvalid, "You have said %d things today; say the rest tomorrow.", n)
		}
		trial, err := q.TrialByID(ctx, id)
		if err != nil {
			return err
		}
		return q.AddWord(ctx, trial.ReleaseID, t.ID, text, picture)
	})
}
