package appfile

import (
	"cmp"
	"slices"
	"strings"
	"time"

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
	// The largest of them, drawn in 96 pixels as a PNG.
	Picture []byte `json:"picture,omitempty"`
	// The files of code, on Android.
	Code []Code `json:"code"`
	// Those that its network settings name.
	Domains []Domain `json:"domains"`
	// About what kinds of devices load.
	Downloads []Download `json:"downloads"`
	// On iOS, whether it says if it uses encryption that has to be declared (ITSAppUsesNonExemptEncryption).
	Declared bool `json:"declared"`
	// What is in it that is not for those who use it, and the classes of iOS by which it asks people for something. They
	// are there when all of it was searched.
	Inside []Inside `json:"inside,omitempty"`
	Uses   []string `json:"uses,omitempty"`
	// By which the names are found that a shrinker took away; found when all of it was searched.
	Mapping string `json:"mapping,omitempty"`
	// Files by which its crashes are read, where such were looked for.
	Symbols []Symbols `json:"symbols,omitempty"`
	// Who signed it; none when nobody has.
	Signers []Signer `json:"signers"`
	// The schemes by which it is signed, such as v2; seal for iOS.
	Schemes []string `json:"schemes"`
	// The provisioning profile inside.
	Profile *ProfileFacts `json:"profile,omitempty"`
	// What it asks the system for on iOS.
	Entitlements map[string]any `json:"entitlements,omitempty"`
	// Modules of an app bundle that do not say which of their libraries are for which processor.
	Unsplit []string `json:"unsplit,omitempty"`
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
	// What it lets the app do, when it is a usual one.
	Means string `json:"means,omitempty"`
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
	// The devices that it lists; none when it is for any.
	Named []string `json:"named,omitempty"`
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

// How many parts are told one by one, and how many programs of a file of symbols.
const (
	maxBrief   = 400
	maxMatched = 20
)

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
	f.Code, f.Domains = first(f.Code), slices.Clone(first(f.Domains))
	f.Downloads, f.Unsplit, f.Symbols = first(f.Downloads), first(f.Unsplit), slices.Clone(first(f.Symbols))
	f.Icons, f.Signers, f.Schemes = first(f.Icons), first(f.Signers), first(f.Schemes)
	for i := range f.Parts {
		f.Parts[i].Path = short(f.Parts[i].Path)
	}
	f.Programs, f.Permissions = slices.Clone(f.Programs), slices.Clone(f.Permissions)
	for i := range f.Programs {
		f.Programs[i].Path = short(f.Programs[i].Path)
	}
	for i := range f.Domains {
		f.Domains[i].Name = short(f.Domains[i].Name)
	}
	for i, s := range f.Symbols {
		f.Symbols[i].Path, f.Symbols[i].IDs = short(s.Path), s.IDs[:min(len(s.IDs), maxMatched)]
		f.Symbols[i].Of = slices.Clone(s.Of[:min(len(s.Of), maxMatched)])
		for n := range f.Symbols[i].Of {
			f.Symbols[i].Of[n] = short(f.Symbols[i].Of[n])
		}
	}
	f.Inside = slices.Clone(f.Inside)
	for i := range f.Inside {
		f.Inside[i].Path, f.Inside[i].What = short(f.Inside[i].Path), short(f.Inside[i].What)
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
