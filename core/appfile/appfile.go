// Package appfile looks into packages: APKs and app bundles of Android, IPAs of iOS. It tells what they are, ask for
// and are made of. Whoever made a package may be a stranger: what is read is bounded in size, number and depth, and
// only the beginnings of large entries are unpacked.
package appfile

import (
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/archive"
)

// Error says that a file is no package that is known, or is damaged.
type Error struct {
	What  string
	Other bool // it is a sound archive, of another kind
}

func (e *Error) Error() string { return e.What }

func wrong(format string, args ...any) error { return &Error{What: fmt.Sprintf(format, args...)} }

// Package is an open package.
type Package struct {
	*archive.Archive
	Facts
	file io.ReaderAt
	root string // of an IPA: Payload/NAME.app
}

// The bounds of what is unpacked.
const (
	maxManifest  = 16 << 20
	maxTable     = 256 << 20
	maxBeginning = 64 << 10
)

// KindOf tells what an archive is.
func KindOf(a *archive.Archive) (Kind, error) {
	switch {
	case a.Find("BundleConfig.pb") != nil && a.Find("base/manifest/AndroidManifest.xml") != nil:
		return Bundle, nil
	case a.Find("AndroidManifest.xml") != nil:
		return APK, nil
	case appOf(a) != "":
		return IPA, nil
	}
	return "", &Error{Other: true, What: "it is neither an APK, nor an app bundle, nor an IPA: it holds no " +
		"AndroidManifest.xml and no Payload/*.app"}
}

// appOf is the folder of the app in an IPA.
func appOf(a *archive.Archive) string {
	for _, e := range a.Entries() {
		parts := strings.Split(e.Name, "/")
		if len(parts) > 2 && parts[0] == "Payload" && path.Ext(parts[1]) == ".app" {
			return path.Join(parts[:2]...)
		}
	}
	return ""
}

// Open looks into a package. Errors are of type *Error or *archive.Error, or the reader's own.
func Open(r io.ReaderAt, size int64) (*Package, error) {
	a, err := archive.Open(r, size)
	if err != nil {
		return nil, err
	}
	kind, err := KindOf(a)
	if err != nil {
		return nil, err
	}
	p := &Package{Archive: a, file: r, Facts: Facts{Kind: kind, Size: size, Permissions: []Permission{},
		Processors: []string{}, Programs: []Program{}, Languages: []string{}, Icons: []Icon{}, Signers: []Signer{},
		Schemes: []string{}, Misplaced: []string{}, Parts: []Part{}, Code: []Code{}, Domains: []Domain{},
		Downloads: []Download{}}}
	if kind == IPA {
		err = p.readIPA()
	} else {
		err = p.readAndroid()
	}
	if err != nil {
		return nil, err
	}
	p.parts()
	p.picture()
	p.downloads()
	slices.SortFunc(p.Programs, func(a, b Program) int { return strings.Compare(a.Path, b.Path) })
	return p, nil
}

// beginning is the first bytes of an entry, at most so many.
func (p *Package) beginning(e *archive.Entry, most int64) ([]byte, error) {
	r := p.Content(e)
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, most))
}

// parts tells what each entry is part of.
func (p *Package) parts() {
	packed := int64(0)
	for _, e := range p.Entries() {
		if !e.Folder() {
			p.Parts = append(p.Parts, Part{p.group(e.Name), e.Name, e.Compressed, e.Size})
			packed += e.Compressed
		}
	}
	// Directory, padding and the signature of the whole are no entries.
	p.Parts = append(p.Parts, Part{"wrapping", "", p.Size - packed, p.Size - packed})
}

// group is what an entry belongs to.
func (p *Package) group(name string) string {
	if p.Kind == IPA {
		in := strings.TrimPrefix(name, p.root+"/")
		switch {
		case strings.HasPrefix(in, "Frameworks/"):
			return "frameworks"
		case strings.HasPrefix(in, "PlugIns/"), strings.HasPrefix(in, "Watch/"):
			return "extensions"
		case strings.HasPrefix(in, "_CodeSignature/"), path.Base(in) == "embedded.mobileprovision":
			return "signature"
		case !strings.Contains(in, "/") && slices.ContainsFunc(p.Programs, func(o Program) bool { return o.Path == name }):
			return "code"
		case strings.Contains(in, ".lproj/"):
			return "languages"
		}
		return "resources"
	}
	in := name
	if p.Kind == Bundle {
		_, in, _ = strings.Cut(name, "/")
	}
	switch {
	case strings.HasSuffix(in, ".dex"):
		return "code"
	case strings.HasPrefix(in, "lib/"):
		return "native"
	case strings.HasPrefix(in, "assets/"):
		return "assets"
	case strings.HasPrefix(in, "res/"), in == "resources.arsc", in == "resources.pb":
		return "resources"
	case strings.HasPrefix(name, "META-INF/"):
		return "signature"
	case path.Base(in) == "AndroidManifest.xml", strings.HasPrefix(in, "manifest/"):
		return "manifest"
	}
	return "other"
}
