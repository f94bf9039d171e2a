// Package appfile looks into packages: APKs and app bundles of Android, IPAs of iOS. It tells what they are, ask for
// and are made of. Whoever made a package may be a stranger: what is read is bounded in size, number and depth, and
// only the beginnings of large entries are unpacked.
package appfile

import (
	"cmp"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/identity"
)

// Kind is what a package is.
type Kind string

// The kinds of packages.
const (
	APK    Kind = "apk"
	Bundle Kind = "app-bundle"
	IPA    Kind = "ipa"
)

// Facts is what is known of a package.
type Facts struct {
	Kind Kind `json:"kind" enum:"apk,app-bundle,ipa"`
	// android or ios.
	Platform string `json:"platform"`
	// The application's id.
	ID string `json:"id"`
	// As people see it on their device.
	Label string `json:"label,omitempty"`
	// The version's name and build number.
	Version string `json:"version"`
	Build   string `json:"build"`
	// The lowest system it is for: a level of Android's interface, or a version of iOS; and the one it was made for.
	Lowest string `json:"lowest,omitempty"`
	Target string `json:"target,omitempty"`
	// What it may do, or asks people for.
	Permissions []Permission `json:"permissions"`
	// Whether a debugger may look into it, and whether it is for tests only.
	Debuggable bool `json:"debuggable"`
	TestOnly   bool `json:"test_only"`
	// Whether it may speak unencrypted (android:usesCleartextTraffic, NSAllowsArbitraryLoads).
	Cleartext bool `json:"cleartext"`
	// The processors it has code for; none when it has no native code.
	Processors []string `json:"processors"`
	// Programs, libraries and frameworks, by their paths.
	Programs  []Program `json:"programs"`
	Languages []string  `json:"languages"`
	Icons     []Icon    `json:"icons"`
	// Who signed it; none when nobody has.
	Signers []Signer `json:"signers"`
	// The schemes by which it is signed, such as v2; seal for iOS.
	Schemes []string `json:"schemes"`
	// The provisioning profile inside.
	Profile *ProfileFacts `json:"profile,omitempty"`
	// What it asks the system for on iOS.
	Entitlements map[string]any `json:"entitlements,omitempty"`
	// Entries that are stored, but do not lie where a device can map them.
	Misplaced []string `json:"misplaced"`
	// Bytes of the file.
	Size int64 `json:"size"`
	// What the size is made of.
	Parts []Part `json:"parts"`
}

// Permission is something the app may do.
type Permission struct {
	Name string `json:"name"`
	// What the app says to people about it, on iOS.
	Purpose string `json:"purpose,omitempty"`
}

// Program is native code in a package.
type Program struct {
	Path string `json:"path"`
	// What it is: library, framework, extension, app.
	Kind      string `json:"kind"`
	Processor string `json:"processor"`
	// By which its symbols are found: a build id of ELF, a UUID of Mach-O.
	BuildID string `json:"build_id,omitempty"`
	// Bytes that its segments lie at multiples of; devices with larger pages refuse it.
	Page int64 `json:"page,omitempty"`
	Size int64 `json:"size"`
}

// Icon is a picture by which people find the app.
type Icon struct {
	Path    string `json:"path"`
	Density int    `json:"density,omitempty"` // dots per inch
	Width   int    `json:"width,omitempty"`   // pixels; 0 when it is no picture of pixels
	Height  int    `json:"height,omitempty"`
}

// Signer is who signed a package.
type Signer struct {
	Subject      string                `json:"subject"`
	Key          string                `json:"key"` // its kind
	Ends         time.Time             `json:"ends"`
	Fingerprints identity.Fingerprints `json:"fingerprints"`
}

// ProfileFacts is what a provisioning profile in a package says.
type ProfileFacts struct {
	Name    string    `json:"name"`
	App     string    `json:"app"`
	Team    string    `json:"team"`
	Ends    time.Time `json:"ends"`
	Devices int       `json:"devices"`
}

// Part is what some bytes of a package are.
type Part struct {
	// Of what: code, native, resources, assets, and so on.
	Group string `json:"group"`
	Path  string `json:"path"`
	// Bytes in the package, and unpacked.
	Packed int64 `json:"packed"`
	Size   int64 `json:"size"`
}

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
		Schemes: []string{}, Misplaced: []string{}, Parts: []Part{}}}
	if kind == IPA {
		err = p.readIPA()
	} else {
		err = p.readAndroid()
	}
	if err != nil {
		return nil, err
	}
	p.parts()
	slices.SortFunc(p.Programs, func(a, b Program) int { return strings.Compare(a.Path, b.Path) })
	return p, nil
}

// maxBrief is how many parts are told one by one.
const maxBrief = 400

// Brief is what is known without the many small parts: those of a group are one.
func (p *Package) Brief() Facts {
	f := p.Facts
	parts := slices.Clone(f.Parts)
	slices.SortStableFunc(parts, func(a, b Part) int { return cmp.Compare(b.Packed, a.Packed) })
	f.Parts = parts[:min(len(parts), maxBrief)]
	rest := map[string]*Part{}
	for _, part := range parts[len(f.Parts):] {
		if rest[part.Group] == nil {
			rest[part.Group] = &Part{Group: part.Group}
		}
		rest[part.Group].Packed += part.Packed
		rest[part.Group].Size += part.Size
	}
	for _, part := range rest {
		f.Parts = append(f.Parts, *part)
	}
	f.Programs, f.Misplaced = first(f.Programs), first(f.Misplaced)
	f.Permissions, f.Processors, f.Languages = first(f.Permissions), first(f.Processors), first(f.Languages)
	f.Icons, f.Signers, f.Schemes = first(f.Icons), first(f.Signers), first(f.Schemes)
	for i := range f.Parts {
		f.Parts[i].Path = short(f.Parts[i].Path)
	}
	f.Programs, f.Permissions = slices.Clone(f.Programs), slices.Clone(f.Permissions)
	for i := range f.Programs {
		f.Programs[i].Path = short(f.Programs[i].Path)
	}
	for i := range f.Permissions {
		f.Permissions[i].Name, f.Permissions[i].Purpose = short(f.Permissions[i].Name), short(f.Permissions[i].Purpose)
	}
	return f
}

func first[T any](list []T) []T { return list[:min(len(list), maxBrief)] }

// maxName bounds a name in what is brief.
const maxName = 400

// short cuts a name that is longer than any that somebody reads.
func short(name string) string {
	if len(name) <= maxName {
		return name
	}
	return strings.ToValidUTF8(name[:maxName], "") + "…"
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
