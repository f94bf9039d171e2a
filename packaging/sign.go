// Package packaging makes, signs and looks into packages that are files of this machine. A file that is there is never
// written over, and one that is being made has its name only once it is whole.
package packaging

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/sign"
	"gentlepiston.example/piston/core/sign/apk"
	"gentlepiston.example/piston/core/sign/bundle"
	"gentlepiston.example/piston/core/sign/jar"
)

// Target is a package that is to be signed.
type Target struct {
	Path     string
	Kind     appfile.Kind // of what is made
	Platform string
	ID       string // of the app
	Version  string
	Build    string

	lowest int
	app    bool // a folder, not an archive
}

// Output is the name of the file that is made from it.
func (t Target) Output() string {
	base := filepath.Base(t.Path)
	if t.app {
		return strings.TrimSuffix(base, filepath.Ext(base)) + ".ipa"
	}
	return base
}

// Look tells what a file or a folder is.
func Look(path string) (Target, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Target{}, err
	}
	if info.IsDir() {
		root, err := os.OpenRoot(path)
		if err != nil {
			return Target{}, err
		}
		defer root.Close()
		about, _, err := bundle.ReadInfo(root.FS(), ".")
		return Target{path, appfile.IPA, "ios", about.ID, about.Name, about.Build, 0, true}, err
	}
	if !info.Mode().IsRegular() {
		return Target{}, fmt.Errorf("%s is no file", path)
	}
	f, err := os.Open(path)
	if err != nil {
		return Target{}, err
	}
	defer f.Close()
	p, err := appfile.Open(f, info.Size())
	if err != nil {
		return Target{}, err
	}
	t := Target{Path: path, Kind: p.Kind, Platform: p.Platform, ID: p.ID, Version: p.Version, Build: p.Build}
	if p.Kind == appfile.APK {
		if t.lowest, err = strconv.Atoi(p.Lowest); err != nil {
			return t, fmt.Errorf("its minSdkVersion is %.40q: a package of a preview of Android is not signed", p.Lowest)
		}
	}
	return t, nil
}

// Options say with what to sign, and where to.
type Options struct {
	Signer   sign.Signer
	Former   *sign.Signer // of Android: the key of before, where it was rotated, and the proof
	Lineage  []byte
	Profiles []*bundle.Profile
	// What programs of iOS ask for, by their ids.
	Entitlements map[string]map[string]any
	Into         string // a folder, which is made
	By           string // who made the signature, as manifests say it
	Beside       bool   // for APKs, the file of scheme v4, too
	Now          time.Time
}

// ReadEntitlements reads files of what programs ask for, by their ids.
func ReadEntitlements(files map[string]string) (map[string]map[string]any, error) {
	out := map[string]map[string]any{}
	for id, name := range files {
		text, err := ReadWhole(name, profile.MaxEntitlements)
		if err == nil {
			out[id], err = profile.ReadEntitlements(text)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	return out, nil
}

// Made tells what came of it.
type Made struct {
	Files    []string // the package first
	Schemes  []string
	Programs []bundle.Signed // of iOS
}

// Sign signs one.
func (t Target) Sign(ctx context.Context, o Options) (made Made, err error) {
	if err := os.MkdirAll(o.Into, 0o755); err != nil {
		return made, err
	}
	to := filepath.Join(o.Into, t.Output())
	if t.Kind == appfile.IPA {
		return t.ios(ctx, to, o)
	}
	in, err := os.Open(t.Path)
	if err != nil {
		return made, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return made, err
	}
	a, err := archive.Open(in, info.Size())
	if err != nil {
		return made, err
	}
	if t.Kind == appfile.Bundle {
		if o.Former != nil {
			o.Signer = *o.Former // a store knows an upload by the key it was told first
		}
		made = Made{Files: []string{to}, Schemes: []string{"v1"}}
		return made, create(to, buffered(func(w io.Writer) error { return jar.Bundle(ctx, a, w, o.Signer, o.By) }))
	}
	var r apk.Result
	err = create(to, func(f *os.File) (err error) {
		r, err = apk.Sign(ctx, a, f, o.Signer, apk.Options{MinSDK: t.lowest, By: o.By, V4: o.Beside,
			Former: o.Former, Lineage: o.Lineage})
		return err
	})
	if err != nil {
		return made, err
	}
	for _, n := range r.Schemes {
		made.Schemes = append(made.Schemes, fmt.Sprintf("v%d", n))
	}
	made.Files = []string{to}
	if r.Beside != nil {
		made.Files = append(made.Files, to+".idsig")
		err = create(to+".idsig", func(f *os.File) error {
			_, err := f.Write(r.Beside)
			return err
		})
	}
	return made, err
}

// ios signs a copy of an app, and packs it.
func (t Target) ios(ctx context.Context, to string, o Options) (made Made, err error) {
	scratch, err := os.MkdirTemp(o.Into, ".signing-")
	if err != nil {
		return made, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	name := filepath.Base(t.Path)
	if t.app {
		err = os.CopyFS(filepath.Join(scratch, name), os.DirFS(t.Path))
	} else {
		name, err = unpack(ctx, t.Path, scratch)
	}
	if err != nil {
		return made, err
	}
	root, err := os.OpenRoot(filepath.Join(scratch, name))
	if err != nil {
		return made, err
	}
	defer root.Close()
	app := folder{root, root.FS()}
	made = Made{Files: []string{to}, Schemes: []string{"seal"}}
	made.Programs, err = bundle.Sign(ctx, app, bundle.Options{Signer: o.Signer, Profiles: o.Profiles,
		Entitlements: o.Entitlements, Now: o.Now})
	if err != nil {
		return made, err
	}
	return made, create(to, buffered(func(w io.Writer) error { return bundle.Pack(app, name, w) }))
}

// create makes a file that was not there: whole, or not at all.
func create(to string, write func(f *os.File) error) (err error) {
	if _, err := os.Lstat(to); err == nil {
		return fmt.Errorf("%s is there already, and is not written over: %w", to, fs.ErrExist)
	}
	f, err := os.CreateTemp(filepath.Dir(to), ".signing-")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(f.Name()))
		}
	}()
	err = write(f)
	if err == nil {
		err = f.Chmod(0o644)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	// A link, unlike a rename, fails when somebody else was first.
	if err := os.Link(f.Name(), to); err != nil {
		return err
	}
	return os.Remove(f.Name())
}

// buffered writes in large pieces what comes in many small ones.
func buffered(write func(w io.Writer) error) func(f *os.File) error {
	return func(f *os.File) error {
		b := bufio.NewWriterSize(f, 1<<20)
		return errors.Join(write(b), b.Flush())
	}
}

// folder is an app that may be written in, and nowhere else.
type folder struct {
	root *os.Root
	fs.FS
}

// Write implements bundle.Folder.
func (f folder) Write(name string, mode fs.FileMode, content func(io.Writer) error) error {
	if mode == 0 {
		info, err := f.root.Stat(name)
		if err != nil {
			return err
		}
		mode = info.Mode().Perm()
	}
	if err := f.root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	beside := name + ".piston-signing"
	out, err := f.root.OpenFile(beside, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode|0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(content(out), out.Close()); err != nil {
		return err
	}
	return f.root.Rename(beside, name)
}
