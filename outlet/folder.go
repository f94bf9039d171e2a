package outlet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/version"
)

// Folder is an outlet that is a folder of the server's machine: CHANNEL/APP/NAME holds a version's packages beside
// release.json, which says what it is. CHANNEL/APP/current.json is a copy of that of the version that people get, for
// whoever reads the folder. A version is there whole or not at all, and is never written over.
type Folder struct{ root *os.Root }

// OpenFolder opens one, and makes it when there is none.
func OpenFolder(dir string) (*Folder, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	return &Folder{root}, err
}

// Close lets go of it.
func (f *Folder) Close() error { return f.root.Close() }

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
	Packages []recordFile                   `json:"packages"`
}

type recordFile struct {
	File     string `json:"file"`
	Kind     string `json:"kind"`
	Platform string `json:"platform"`
	Size     int64  `json:"size"`
	SHA256   string `json:"sha256"`
}

// partForm is a name that is one folder of a path everywhere.
var partForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]{0,99}$`)

// place is the folder of a version, and what else is to be said of the parts of its name.
func place(channel, app, name string) (string, error) {
	for what, part := range map[string]string{"channel": channel, "app": app, "version": name} {
		if !partForm.MatchString(part) {
			return "", fmt.Errorf("the %s %.60q is no name of a folder: use letters, digits and . _ + -", what, part)
		}
	}
	return path.Join(channel, app, name), nil
}

func (f *Folder) read(name string) (r kept, err error) {
	text, err := f.root.ReadFile(name)
	if err == nil {
		err = json.Unmarshal(text, &r)
	}
	return r, err
}

// Try implements Outlet.
func (f *Folder) Try(context.Context) error {
	if _, err := f.root.Stat("."); err != nil {
		return away(err)
	}
	return nil
}

// Now implements Outlet.
func (f *Folder) Now(_ context.Context, o Offer) (s publication.Standing, err error) {
	s.Out = []publication.Version{}
	if _, err := place(o.Channel, o.App, o.Name); err != nil {
		return s, err
	}
	r, err := f.read(path.Join(o.Channel, o.App, currentFile))
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, away(err)
	}
	s.Out = append(s.Out, publication.Version{Name: r.Name, Builds: r.Builds, Share: 100, Since: r.Since})
	return s, nil
}

// away is what an error of the disk means: it may be full, or not there, for a while.
func away(err error) error { return &Away{Why: err} }

// Missing implements Outlet.
func (f *Folder) Missing(_ context.Context, o Offer) (list []publication.Missing, err error) {
	at, err := place(o.Channel, o.App, o.Name)
	if err != nil {
		return []publication.Missing{{What: err.Error(), Mend: "Choose another channel, or raise the version."}}, nil
	}
	if o.Share != 100 {
		list = append(list, publication.Missing{What: ErrNoShare.Error(), Mend: "Leave share out, or make it 100."})
	}
	if o.Hold {
		list = append(list, publication.Missing{What: "a folder gives a release out at once", Mend: "Leave hold out."})
	}
	names := map[string]bool{}
	for _, p := range o.Packages {
		if !partForm.MatchString(p.File) || p.File == releaseFile || names[p.File] {
			what := fmt.Sprintf("two packages are called %.60q, or nothing can be called so", p.File)
			list = append(list, publication.Missing{What: what, Mend: "Give each package a file name of its own."})
		}
		names[p.File] = true
	}
	there, err := f.read(path.Join(at, releaseFile))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return list, nil
	case err != nil:
		return list, away(err)
	case !same(there, o):
		list = append(list, publication.Missing{What: fmt.Sprintf("%s holds other packages of %s already", at, o.Name),
			Mend: "Raise the version: what people may have is not written over."})
	}
	return list, nil
}

// same tells whether a version that is there is what is offered.
func same(r kept, o Offer) bool {
	if len(r.Packages) != len(o.Packages) {
		return false
	}
	return !slices.ContainsFunc(o.Packages, func(p Package) bool {
		return !slices.ContainsFunc(r.Packages, func(f recordFile) bool { return f.File == p.File && f.SHA256 == p.SHA256 })
	})
}

// Bring implements Outlet.
func (f *Folder) Bring(ctx context.Context, o Offer, sent func(int64)) (ref string, err error) {
	at, err := place(o.Channel, o.App, o.Name)
	if err != nil {
		return "", &Refusal{[]string{err.Error()}}
	}
	r := keptOf(o)
	there, err := f.read(path.Join(at, releaseFile))
	switch {
	case err == nil && same(there, o):
		sent(o.Size()) // it was brought before; people get it again
		r = there
		r.Key = o.Key
	case err == nil:
		return "", &Refusal{[]string{at + " holds other packages of that version already"}}
	case !errors.Is(err, fs.ErrNotExist):
		return "", away(err)
	default:
		if err := f.fill(ctx, at, o, r, sent); err != nil {
			return "", err
		}
	}
	if err := f.replace(path.Join(path.Dir(at), currentFile), r); err != nil {
		return "", away(err)
	}
	return at, nil
}

func keptOf(o Offer) kept {
	r := kept{Key: o.Key, App: o.App, Name: o.Name, Builds: o.Builds, Channel: o.Channel, Notes: o.Notes,
		Since: time.Now().UTC().Truncate(time.Second)}
	for _, p := range o.Packages {
		r.Packages = append(r.Packages, recordFile{p.File, p.Kind, p.Platform, p.Size, p.SHA256})
	}
	return r
}

// fill makes the folder of a version beside its place, and puts it there when it is whole.
func (f *Folder) fill(ctx context.Context, at string, o Offer, r kept, sent func(int64)) error {
	part := path.Join(path.Dir(at), ".part-"+path.Base(at)+"-"+o.Key)
	if err := f.root.RemoveAll(part); err != nil {
		return away(err)
	}
	if err := f.root.MkdirAll(part, 0o755); err != nil {
		return away(err)
	}
	var done int64
	for _, p := range o.Packages {
		err := f.copy(ctx, path.Join(part, p.File), p, func(n int64) { sent(done + n) })
		if err != nil {
			_ = f.root.RemoveAll(part)
			return err
		}
		done += p.Size
	}
	if err := f.replace(path.Join(part, releaseFile), r); err != nil {
		return away(err)
	}
	if err := f.root.Rename(part, at); err != nil {
		return away(err)
	}
	return nil
}

// copy writes a package, and holds what was written against its hash.
func (f *Folder) copy(ctx context.Context, name string, p Package, sent func(int64)) error {
	in, err := p.Open(ctx, 0)
	if err != nil {
		return away(err)
	}
	defer in.Close()
	out, err := f.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return away(err)
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(out, sum, &counter{tell: sent}), in)
	err = errors.Join(err, out.Sync(), out.Close())
	switch {
	case err != nil:
		return away(err)
	case n != p.Size || hex.EncodeToString(sum.Sum(nil)) != p.SHA256:
		return away(fmt.Errorf("%s is not what it was when it was kept", p.File))
	}
	return nil
}

// counter tells how many bytes went by.
type counter struct {
	n    int64
	tell func(int64)
}

// Write implements io.Writer.
func (c *counter) Write(b []byte) (int, error) {
	c.n += int64(len(b))
	c.tell(c.n)
	return len(b), nil
}

// replace writes a file whole or not at all.
func (f *Folder) replace(name string, r kept) error {
	text, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	part := name + ".part"
	file, err := f.root.Create(part)
	if err != nil {
		return err
	}
	_, err = file.Write(append(text, '\n'))
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return err
	}
	return f.root.Rename(part, name)
}

// Sent implements Outlet.
func (f *Folder) Sent(_ context.Context, o Offer) (ref string, err error) {
	at, err := place(o.Channel, o.App, o.Name)
	if err != nil {
		return "", nil
	}
	for _, name := range []string{path.Join(at, releaseFile), path.Join(path.Dir(at), currentFile)} {
		r, err := f.read(name)
		switch {
		case err == nil && r.Key == o.Key:
			return at, nil
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			return "", away(err)
		}
	}
	return "", nil
}

// Stands implements Outlet.
func (f *Folder) Stands(_ context.Context, ref string) (publication.Stands, error) {
	r, err := f.read(path.Join(ref, releaseFile))
	if errors.Is(err, fs.ErrNotExist) {
		return publication.Stands{State: publication.Withdrawn}, nil
	}
	if err != nil {
		return publication.Stands{}, away(err)
	}
	current, err := f.read(path.Join(path.Dir(ref), currentFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return publication.Stands{}, away(err)
	}
	if err == nil && current.Name == r.Name {
		return publication.Stands{State: publication.Out, Share: 100}, nil
	}
	return publication.Stands{State: publication.Halted}, nil
}

// Share implements Outlet: all people get it, or nobody.
func (f *Folder) Share(_ context.Context, ref string, percent int) error {
	if percent != 100 {
		return &Refusal{[]string{ErrNoShare.Error()}}
	}
	r, err := f.read(path.Join(ref, releaseFile))
	if err == nil {
		err = f.replace(path.Join(path.Dir(ref), currentFile), r)
	}
	if err != nil {
		return away(err)
	}
	return nil
}

// Halt implements Outlet.
func (f *Folder) Halt(ctx context.Context, ref string) error {
	s, err := f.Stands(ctx, ref)
	if err != nil || s.State != publication.Out {
		return err
	}
	if err := f.root.Remove(path.Join(path.Dir(ref), currentFile)); err != nil {
		return away(err)
	}
	return nil
}

// TakeBack implements Outlet.
func (f *Folder) TakeBack(ctx context.Context, ref string) error {
	if err := f.Halt(ctx, ref); err != nil {
		return err
	}
	aside := path.Join(path.Dir(ref), ".gone-"+path.Base(ref))
	err := f.root.Rename(ref, aside) // at once, and then away
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		err = f.root.RemoveAll(aside)
	}
	if err != nil {
		return away(err)
	}
	return nil
}

// FolderName checks the name of a folder below that of all outlets.
func FolderName(name string) error {
	for _, part := range strings.Split(name, "/") {
		if !partForm.MatchString(part) {
			return fmt.Errorf("%.100q is no folder: use letters, digits and . _ + -, and / between folders", name)
		}
	}
	return nil
}
