package outlet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"time"

	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/version"
)

// shelf is an outlet that only holds files: CHANNEL/APP/NAME holds a version's packages beside release.json, which says
// what it is. CHANNEL/APP/current.json is a copy of that of the version that people get, for whoever reads the files. A
// version is there whole or not at all, and is never written over.
type shelf struct {
	place
	called string // what it is, in sentences
}

// place is where a shelf's files are. What is not there is fs.ErrNotExist.
type place interface {
	// try tells whether it is there.
	try(ctx context.Context) error
	read(ctx context.Context, name string) ([]byte, error)
	// write writes a small file, whole or not at all.
	write(ctx context.Context, name string, text []byte) error
	remove(ctx context.Context, name string) error
	// fill puts a version's packages and its release.json at a folder; without the latter nothing is there.
	fill(ctx context.Context, at string, o Offer, about []byte, sent func(int64)) error
	// drop takes a version away, its release.json first.
	drop(ctx context.Context, at string) error
}

const (
	releaseFile = "release.json"
	currentFile = "current.json"
)

// kept is what release.json says.
type kept struct {
	Key      string                         `json:"key"` // of what has brought it, or made it current
	App      string                         `json:"app"`
	Name     string                         `json:"name"`
	Builds   map[string]version.BuildNumber `json:"builds"`
	Channel  string                         `json:"channel"`
	Notes    map[string]string              `json:"notes"`
	Since    time.Time                      `json:"since"`
	Packages []keptFile                     `json:"packages"`
}

type keptFile struct {
	File     string `json:"file"`
	Kind     string `json:"kind"`
	Platform string `json:"platform"`
	Size     int64  `json:"size"`
	SHA256   string `json:"sha256"`
}

// partForm is a name that is one folder of a path everywhere.
var partForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]{0,99}$`)

// folderOf is the folder of a version, and what else is to be said of the parts of its name.
func folderOf(o Offer) (string, error) {
	for what, part := range map[string]string{"channel": o.Channel, "app": o.App, "version": o.Name} {
		if !partForm.MatchString(part) {
			return "", fmt.Errorf("the %s %.60q is no name of a folder: use letters, digits and . _ + -", what, part)
		}
	}
	return path.Join(o.Channel, o.App, o.Name), nil
}

// current is where is said which version people get, beside the folder of one.
func current(at string) string { return path.Join(path.Dir(at), currentFile) }

func (s *shelf) about(ctx context.Context, name string) (k kept, err error) {
	text, err := s.read(ctx, name)
	if err == nil {
		err = json.Unmarshal(text, &k)
	}
	return k, err
}

func (s *shelf) put(ctx context.Context, name string, k kept) error {
	text, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	return away(s.write(ctx, name, append(text, '\n')))
}

// away is what an error of a place means: it may be full, or not there, for a while.
func away(err error) error {
	if err == nil {
		return nil
	}
	return &Away{Why: err}
}

func gone(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// Try implements Outlet.
func (s *shelf) Try(ctx context.Context) error { return away(s.try(ctx)) }

// Now implements Outlet.
func (s *shelf) Now(ctx context.Context, o Offer) (now publication.Standing, err error) {
	now.Out = []publication.Version{}
	at, err := folderOf(o)
	if err != nil {
		return now, nil // which Missing tells
	}
	k, err := s.about(ctx, current(at))
	if gone(err) {
		return now, nil
	}
	if err != nil {
		return now, away(err)
	}
	now.Out = append(now.Out, publication.Version{Name: k.Name, Builds: k.Builds, Share: 100, Since: k.Since})
	return now, nil
}

// Missing implements Outlet.
func (s *shelf) Missing(ctx context.Context, o Offer) (list []publication.Missing, err error) {
	at, err := folderOf(o)
	if err != nil {
		return []publication.Missing{{What: err.Error(), Mend: "Choose another channel, or raise the version."}}, nil
	}
	missing := func(mend, what string, args ...any) {
		list = append(list, publication.Missing{What: fmt.Sprintf(what, args...), Mend: mend})
	}
	if o.Share != 100 {
		missing("Leave share out, or make it 100.", "%v", ErrNoShare)
	}
	if o.Hold {
		missing("Leave hold out.", "%s gives a release out at once", s.called)
	}
	names := map[string]bool{}
	for _, p := range o.Packages {
		if !partForm.MatchString(p.File) || p.File == releaseFile || names[p.File] {
			missing("Give each package a file name of its own.", "two packages are called %.60q, or nothing can be called so",
				p.File)
		}
		names[p.File] = true
	}
	there, err := s.about(ctx, path.Join(at, releaseFile))
	switch {
	case gone(err):
		return list, nil
	case err != nil:
		return list, away(err)
	case !same(there, o):
		missing("Raise the version: what people may have is not written over.", "%s holds other packages of %s already", at,
			o.Name)
	}
	return list, nil
}

// same tells whether a version that is there is what is offered.
func same(k kept, o Offer) bool {
	if len(k.Packages) != len(o.Packages) {
		return false
	}
	return !slices.ContainsFunc(o.Packages, func(p Package) bool {
		return !slices.ContainsFunc(k.Packages, func(f keptFile) bool { return f.File == p.File && f.SHA256 == p.SHA256 })
	})
}

// Bring implements Outlet.
func (s *shelf) Bring(ctx context.Context, o Offer, sent func(int64)) (ref string, err error) {
	at, err := folderOf(o)
	if err != nil {
		return "", &Refusal{[]string{err.Error()}}
	}
	k := keptOf(o)
	there, err := s.about(ctx, path.Join(at, releaseFile))
	switch {
	case err == nil && same(there, o):
		sent(o.Size()) // it was brought before; people get it again
		k = there
		k.Key = o.Key
	case err == nil:
		return "", &Refusal{[]string{at + " holds other packages of that version already"}}
	case !gone(err):
		return "", away(err)
	default:
		text, err := json.MarshalIndent(k, "", "  ")
		if err != nil {
			return "", err
		}
		if err := s.fill(ctx, at, o, append(text, '\n'), sent); err != nil {
			return "", away(err)
		}
	}
	return at, s.put(ctx, current(at), k)
}

func keptOf(o Offer) kept {
	k := kept{Key: o.Key, App: o.App, Name: o.Name, Builds: o.Builds, Channel: o.Channel, Notes: o.Notes,
		Since: time.Now().UTC().Truncate(time.Second)}
	for _, p := range o.Packages {
		k.Packages = append(k.Packages, keptFile{p.File, p.Kind, p.Platform, p.Size, p.SHA256})
	}
	return k
}

// Sent implements Outlet.
func (s *shelf) Sent(ctx context.Context, o Offer) (ref string, err error) {
	at, err := folderOf(o)
	if err != nil {
		return "", nil
	}
	for _, name := range []string{path.Join(at, releaseFile), current(at)} {
		k, err := s.about(ctx, name)
		switch {
		case err == nil && k.Key == o.Key:
			return at, nil
		case err != nil && !gone(err):
			return "", away(err)
		}
	}
	return "", nil
}

// Stands implements Outlet.
func (s *shelf) Stands(ctx context.Context, ref string) (publication.Stands, error) {
	k, err := s.about(ctx, path.Join(ref, releaseFile))
	if gone(err) {
		return publication.Stands{State: publication.Withdrawn}, nil
	}
	if err != nil {
		return publication.Stands{}, away(err)
	}
	now, err := s.about(ctx, current(ref))
	if err != nil && !gone(err) {
		return publication.Stands{}, away(err)
	}
	if err == nil && now.Name == k.Name {
		return publication.Stands{State: publication.Out, Share: 100}, nil
	}
	return publication.Stands{State: publication.Halted, Share: 100}, nil // those who have it, have it
}

// Share implements Outlet: all people get it, or nobody.
func (s *shelf) Share(ctx context.Context, ref string, percent int) error {
	if percent != 100 {
		return &Refusal{[]string{ErrNoShare.Error()}}
	}
	k, err := s.about(ctx, path.Join(ref, releaseFile))
	if err != nil {
		return away(err)
	}
	return s.put(ctx, current(ref), k)
}

// Halt implements Outlet.
func (s *shelf) Halt(ctx context.Context, ref string) error {
	st, err := s.Stands(ctx, ref)
	if err != nil || st.State != publication.Out {
		return err
	}
	return away(s.remove(ctx, current(ref)))
}

// TakeBack implements Outlet.
func (s *shelf) TakeBack(ctx context.Context, ref string) error {
	if err := s.Halt(ctx, ref); err != nil {
		return err
	}
	return away(s.drop(ctx, ref))
}
