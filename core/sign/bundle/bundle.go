// Package bundle signs apps of iOS: a folder with a program, what it needs beside it, and further programs inside.
// Those inside are signed first, since a folder's seal has the sums of all files that are in it.
package bundle

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"howett.net/plist"

	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/sign"
	"gentlepiston.example/piston/core/sign/macho"
)

// Folder is an app that is to be signed where it lies.
type Folder interface {
	fs.FS
	// Write replaces a file, or makes it; what a mode says stays when it is 0.
	Write(name string, mode fs.FileMode, content func(io.Writer) error) error
}

// Options say with what to sign.
type Options struct {
	Signer   sign.Signer
	Profiles []*Profile // of which each program takes the one for its id
	// What programs ask for, by their ids, as their developers wrote it. The others ask for all that the profile grants.
	Entitlements map[string]map[string]any
	Now          time.Time
}

// Profile is a provisioning profile and its bytes, which go into the app.
type Profile struct {
	*profile.Details
	Raw []byte
}

// Signed tells of one program that was signed.
type Signed struct {
	Path       string // in the app; "" for the app itself
	Identifier string
	Hash       []byte // by which the kernel knows it; of the first processor's code
	Profile    string // the name of the one it was given
}

// Info is what the property list of an app says that matters here.
type Info struct {
	ID         string `plist:"CFBundleIdentifier"`
	Executable string `plist:"CFBundleExecutable"`
	Name       string `plist:"CFBundleShortVersionString"`
	Build      string `plist:"CFBundleVersion"`
}

// The bounds of an app.
const (
	maxFiles = 200_000
	maxInfo  = 4 << 20
)

// embedded is where a profile lies in an app.
const embedded = "embedded.mobileprovision"

// programs are the endings of folders that hold a program.
var programs = []string{".app", ".appex", ".framework"}

// ReadInfo reads the property list of an app's folder.
func ReadInfo(app fs.FS, dir string) (info Info, text []byte, err error) {
	name := path.Join(dir, "Info.plist")
	about, err := fs.Stat(app, name) // opening what is no file may wait for ever
	if errors.Is(err, fs.ErrNotExist) {
		return info, nil, fmt.Errorf("%s has no Info.plist", shown(dir))
	}
	if err == nil && !about.Mode().IsRegular() {
		err = fmt.Errorf("%s is no file", name)
	}
	if err != nil {
		return info, nil, err
	}
	f, err := app.Open(name)
	if err != nil {
		return info, nil, err
	}
	defer f.Close()
	if text, err = io.ReadAll(io.LimitReader(f, maxInfo+1)); err != nil {
		return info, nil, err
	}
	if len(text) > maxInfo {
		return info, nil, fmt.Errorf("%s is larger than %d bytes", name, maxInfo)
	}
	if _, err := plist.Unmarshal(text, &info); err != nil {
		return info, nil, fmt.Errorf("%s cannot be read: %w", name, err)
	}
	if info.ID == "" || info.Executable == "" || info.Executable != path.Base(info.Executable) {
		return info, nil, fmt.Errorf("%s names no CFBundleIdentifier, or no CFBundleExecutable in its folder", name)
	}
	return info, text, nil
}

func shown(dir string) string {
	if dir == "." || dir == "" {
		return "the app"
	}
	return dir
}

// Sign signs an app and all programs inside it.
func Sign(ctx context.Context, app Folder, o Options) ([]Signed, error) {
	if err := o.Signer.Check(); err != nil {
		return nil, err
	}
	folders, libraries, err := find(app)
	if err != nil {
		return nil, err
	}
	if err := o.known(app, folders); err != nil {
		return nil, err
	}
	var out []Signed
	for _, name := range libraries {
		id := strings.TrimSuffix(path.Base(name), path.Ext(name))
		about := macho.About{Identifier: id, Team: o.team()}
		one, err := program(ctx, app, name, o.Signer, about)
		if err != nil {
			return out, fmt.Errorf("%s: %w", name, err)
		}
		out = append(out, one)
	}
	for _, dir := range folders {
		one, err := folder(ctx, app, dir, o)
		if err != nil {
			return out, fmt.Errorf("%s: %w", shown(dir), err)
		}
		out = append(out, one)
	}
	return out, nil
}

// known checks that what is written of entitlements is of programs that are there: a slip would be one without any.
func (o Options) known(app fs.FS, folders []string) error {
	ids := map[string]bool{}
	for _, dir := range folders {
		info, _, err := ReadInfo(app, dir)
		if err != nil {
			return err
		}
		ids[info.ID] = path.Ext(dir) != ".framework"
	}
	for id := range o.Entitlements {
		if !ids[id] {
			return fmt.Errorf("there are entitlements for %.100q, and no program with that id", id)
		}
	}
	return nil
}

// team is that of the profiles, which is also what the kernel compares among an app and its libraries.
func (o Options) team() string {
	for _, p := range o.Profiles {
		return p.Team
	}
	return ""
}

// find lists the folders that hold a program, inner ones first, and programs that lie in none of their own.
func find(app fs.FS) (folders, libraries []string, err error) {
	folders = []string{"."}
	main := map[string]bool{}
	var loose []string
	count := 0
	err = fs.WalkDir(app, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if count++; count > maxFiles {
			return fmt.Errorf("the app has more than %d files", maxFiles)
		}
		switch {
		case d.IsDir() && name != "." && slices.Contains(programs, path.Ext(name)):
			folders = append(folders, name)
		case d.Type().IsRegular():
			is, err := isProgram(app, name)
			if is {
				loose = append(loose, name)
			}
			return err
		}
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	for _, dir := range folders {
		info, _, err := ReadInfo(app, dir)
		if err != nil {
			return nil, nil, err
		}
		main[path.Join(dir, info.Executable)] = true
	}
	for _, name := range loose {
		if !main[name] {
			libraries = append(libraries, name)
		}
	}
	slices.SortStableFunc(folders, func(a, b string) int { return depth(b) - depth(a) })
	return folders, libraries, nil
}

func depth(name string) int {
	if name == "." {
		return 0
	}
	return 1 + strings.Count(name, "/")
}

func isProgram(app fs.FS, name string) (bool, error) {
	f, err := app.Open(name)
	if err != nil {
		return false, err
	}
	defer f.Close()
	first := make([]byte, 8)
	if _, err := io.ReadFull(f, first); err != nil {
		return false, nil // too short for one
	}
	return macho.IsProgram(first), nil
}

// folder signs the program of a folder, with a seal of all that is in it.
func folder(ctx context.Context, app Folder, dir string, o Options) (Signed, error) {
	info, text, err := ReadInfo(app, dir)
	if err != nil {
		return Signed{}, err
	}
	about := macho.About{Identifier: info.ID, Team: o.team(), Info: text}
	used := ""
	if path.Ext(dir) != ".framework" {
		p, err := o.profileFor(info.ID)
		if err != nil {
			return Signed{}, err
		}
		about.Entitlements = p.Grants(info.ID)
		if written, is := o.Entitlements[info.ID]; is {
			if about.Entitlements, err = p.Asks(info.ID, written); err != nil {
				return Signed{}, err
			}
		}
		if why := p.Refuses(info.ID, o.Signer.Leaf(), about.Entitlements, o.Now); why != "" {
			return Signed{}, errors.New(why)
		}
		used, about.Team = p.Name, p.Team
		if err := app.Write(path.Join(dir, embedded), 0o644, bytesOf(p.Raw)); err != nil {
			return Signed{}, err
		}
	}
	if about.Resources, err = seal(app, dir, info.Executable); err != nil {
		return Signed{}, err
	}
	if err := app.Write(path.Join(dir, sealFile), 0o644, bytesOf(about.Resources)); err != nil {
		return Signed{}, err
	}
	one, err := program(ctx, app, path.Join(dir, info.Executable), o.Signer, about)
	if one.Path, one.Profile = dir, used; dir == "." {
		one.Path = ""
	}
	return one, err
}

// profileFor finds the profile of a program: one that names it before one for several.
func (o Options) profileFor(id string) (best *Profile, err error) {
	for _, p := range o.Profiles {
		if p.For(id) && (best == nil || len(p.App) > len(best.App) || p.App == id) {
			best = p
		}
	}
	switch {
	case best == nil && len(o.Profiles) == 1:
		return nil, fmt.Errorf("the profile %q is for %s, and this is %s", o.Profiles[0].Name, o.Profiles[0].App, id)
	case best == nil:
		return nil, fmt.Errorf("none of the %d provisioning profiles is for %s", len(o.Profiles), id)
	}
	return best, nil
}

func bytesOf(b []byte) func(io.Writer) error {
	return func(w io.Writer) error {
		_, err := io.Copy(w, bytes.NewReader(b))
		return err
	}
}

// program signs one file.
func program(ctx context.Context, app Folder, name string, s sign.Signer, about macho.About) (Signed, error) {
	f, err := app.Open(name)
	if err != nil {
		return Signed{}, fmt.Errorf("its program %s cannot be read: %w", path.Base(name), err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return Signed{}, err
	}
	r, ok := f.(io.ReaderAt)
	if !ok || !info.Mode().IsRegular() {
		return Signed{}, fmt.Errorf("its program %s is no file", path.Base(name))
	}
	p, err := macho.Open(r, info.Size())
	if err != nil {
		return Signed{}, err
	}
	var hashes [][]byte
	err = app.Write(name, 0, func(w io.Writer) (err error) {
		hashes, err = p.Sign(ctx, w, s, about)
		return err
	})
	if err != nil {
		return Signed{}, err
	}
	return Signed{Path: name, Identifier: about.Identifier, Hash: hashes[0]}, nil
}
