package packaging

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"gentlepiston.example/piston/core/appbundle"
	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/archive"
)

// maxMapping bounds what a shrinker writes of names.
const maxMapping = 512 << 20

// Pack says what to make: an app bundle of modules, or an APK of a bundle.
type Pack struct {
	Modules []string          `json:"modules,omitempty"`
	Mapping string            `json:"mapping,omitempty"`
	Bundle  string            `json:"bundle,omitempty"`
	Device  *appbundle.Device `json:"device,omitempty"`
	Into    string            `json:"into"` // the file that is made
}

// Packed tells what was made.
type Packed struct {
	appbundle.About
	File string       `json:"file"`
	Kind appfile.Kind `json:"kind"`
	Left []string     `json:"left"` // modules that say they are not part of an APK of all
	Size int64        `json:"size"`
}

// Make makes it. A file that is there already is not written over.
func (p Pack) Make(ctx context.Context) (out Packed, err error) {
	out.File, out.Left = p.Into, []string{}
	if err := os.MkdirAll(filepath.Dir(p.Into), 0o755); err != nil {
		return out, err
	}
	if p.Bundle != "" {
		out.Kind = appfile.APK
		err = p.fuse(ctx, &out)
	} else {
		out.Kind = appfile.Bundle
		err = p.assemble(&out)
	}
	if err != nil {
		return out, err
	}
	info, err := os.Stat(p.Into)
	if err == nil {
		out.Size = info.Size()
	}
	return out, err
}

func (p Pack) assemble(out *Packed) error {
	var o appbundle.Options
	if p.Mapping != "" {
		text, err := ReadWhole(p.Mapping, maxMapping)
		if err != nil {
			return err
		}
		o.Mapping = text
	}
	var sources []appbundle.Source
	for _, name := range p.Modules {
		f, a, err := openArchive(name)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		defer f.Close()
		sources = append(sources, appbundle.Source{Name: name, Archive: a})
	}
	return create(p.Into, buffered(func(w io.Writer) (err error) {
		out.About, err = appbundle.Assemble(w, sources, o)
		return err
	}))
}

func openArchive(name string) (*os.File, *archive.Archive, error) {
	f, size, err := open(name)
	if err != nil {
		return nil, nil, err
	}
	a, err := archive.Open(f, size)
	if err != nil {
		f.Close()
	}
	return f, a, err
}

// ReadWhole reads a file of at most so many bytes.
func ReadWhole(name string, most int64) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("%s has more than %d bytes", name, most)
	}
	return b, err
}

// fuse makes an APK. Resources go by aapt2 into the form that devices read.
func (p Pack) fuse(ctx context.Context, out *Packed) (err error) {
	f, a, err := openArchive(p.Bundle)
	if err != nil {
		return fmt.Errorf("%s: %w", p.Bundle, err)
	}
	defer f.Close()
	b, err := appbundle.Open(a)
	if err != nil {
		return fmt.Errorf("%s: %w", p.Bundle, err)
	}
	var d appbundle.Device
	if p.Device != nil {
		d = *p.Device
	}
	scratch, err := os.MkdirTemp(filepath.Dir(p.Into), ".packing-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	at := func(name string) string { return filepath.Join(scratch, name) }
	if err := create(at("bundle.apk"), buffered(b.Resources)); err != nil {
		return err
	}
	if err := aapt2(ctx, "convert", "--output-format", "binary", "-o", at("all.apk"), at("bundle.apk")); err != nil {
		return err
	}
	last := "all.apk"
	if fewer := narrowed(d); fewer != nil {
		last = "fewer.apk"
		if err := aapt2(ctx, append(append([]string{"optimize"}, fewer...), "-o", at(last), at("all.apk"))...); err != nil {
			return err
		}
	}
	g, resources, err := openArchive(at(last))
	if err != nil {
		return err
	}
	defer g.Close()
	out.Left = b.Left()
	return create(p.Into, buffered(func(w io.Writer) (err error) {
		out.About, err = b.Join(w, resources, d)
		return err
	}))
}

// narrowed are the arguments by which aapt2 leaves away what a device has no use for; nil when it is for all.
func narrowed(d appbundle.Device) (list []string) {
	if d.Density > 0 {
		list = append(list, "--target-densities", strconv.Itoa(d.Density)+"dpi")
	}
	if len(d.Languages) > 0 {
		list = append(list, "-c", strings.Join(d.Languages, ","))
	}
	return list
}

// maxSaid bounds what is told of what aapt2 says.
const maxSaid = 2000

// aapt2 runs the Android platform's own program for resources.
func aapt2(ctx context.Context, args ...string) error {
	path, err := exec.LookPath("aapt2")
	if err != nil {
		return errors.New("aapt2 is not installed here, which turns the resources of a bundle into those of an APK: " +
			"install Debian's package aapt, or Android's build tools")
	}
	said, err := exec.CommandContext(ctx, path, args...).CombinedOutput()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err != nil {
		text := strings.TrimSpace(strings.ToValidUTF8(string(said[:min(len(said), maxSaid)]), "?"))
		return fmt.Errorf("aapt2 %s: %w: %s", args[0], err, text)
	}
	return nil
}
