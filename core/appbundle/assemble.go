package appbundle

import (
	"io"
	"path"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/archive"
)

// Source is a module as a build leaves it: an archive as aapt2 links it, with code, libraries and assets added.
type Source struct {
	Name    string // of its file
	Archive *archive.Archive
}

// Options are what else goes into a bundle.
type Options struct {
	// By what the code was shrunk, as a shrinker writes it; nil when there is none.
	Mapping []byte
}

// About tells what was made.
type About struct {
	ID      string   `json:"id"`
	Version string   `json:"version"`
	Build   string   `json:"build"`
	Modules []string `json:"modules"` // of the bundle, or those that an APK is made of
	// The processors that it has code for.
	Processors []string `json:"processors"`
}

// Rules of the format by which a store splits a bundle; it is the store's own number for them.
const formatRules = "1.15.0"

// mappingPlace is where stores look for the names that a shrinker took away.
const mappingPlace = "BUNDLE-METADATA/com.android.tools.build.obfuscation/proguard.map"

// Assemble writes an app bundle of modules: one base, and features whose manifests name them. The same modules give the
// same bytes.
func Assemble(w io.Writer, sources []Source, o Options) (about About, err error) {
	about.Processors = []string{}
	var list []*module
	for _, s := range sources {
		m, err := place(s)
		if err != nil {
			return about, err
		}
		list = append(list, m)
	}
	if err := order(list); err != nil {
		return about, err
	}
	out := archive.NewWriter(w)
	out.Plain, out.Timeless = true, true
	if err := out.Add("BundleConfig.pb", field(1, field(2, []byte(formatRules))), 0); err != nil {
		return about, err
	}
	for _, m := range list {
		if err := m.write(out); err != nil {
			return about, err
		}
		about.Modules = append(about.Modules, m.name)
		about.take(m)
	}
	if o.Mapping != nil {
		if err := out.Add(mappingPlace, o.Mapping, 0); err != nil {
			return about, err
		}
	}
	return about, out.Close()
}

// take notes what a module says.
func (a *About) take(m *module) {
	if m.name == Base {
		a.ID, a.Version, a.Build = m.manifest.Plain("package"), m.manifest.Android("versionName"),
			m.manifest.Android("versionCode")
	}
	for place := range m.entries {
		if p := processorOf(place); p != "" && !slices.Contains(a.Processors, p) {
			a.Processors = append(a.Processors, p)
		}
	}
	slices.Sort(a.Processors)
}

// tops are the folders of a module. What lies elsewhere belongs to the root of the APK.
var tops = []string{"assets", "dex", "lib", "manifest", "res", "root"}

// place finds for each entry of a source its place in a module.
func place(s Source) (*module, error) {
	m := &module{from: s.Name, archive: s.Archive, entries: map[string]*archive.Entry{}}
	for _, e := range s.Archive.Entries() {
		if e.Folder() {
			continue
		}
		at := placeOf(e.Name)
		if other := m.entries[at]; other != nil {
			return nil, wrong(s.Name, "%s and %s have one place in a module, %s", other.Name, e.Name, at)
		}
		m.entries[at] = e
	}
	if err := m.read(); err != nil {
		return nil, err
	}
	m.name = m.manifest.Plain("split")
	if m.name == "" {
		m.name = Base
	}
	return m, nil
}

func placeOf(name string) string {
	top, _, deep := strings.Cut(name, "/")
	switch {
	case name == "AndroidManifest.xml":
		return manifestPlace
	case name == "resources.pb", name == "native.pb", name == "assets.pb", deep && slices.Contains(tops, top):
		return name
	case !deep && path.Ext(name) == ".dex":
		return "dex/" + name
	}
	return "root/" + name
}

func (m *module) write(out *archive.Writer) error {
	for _, place := range m.places() {
		e := *m.entries[place]
		e.Name = m.name + "/" + place
		if err := out.Copy(m.archive, &e, 1); err != nil {
			return err
		}
	}
	if m.entries["native.pb"] != nil {
		return nil
	}
	if table := m.processors(); table != nil {
		return out.Add(m.name+"/native.pb", table, 0)
	}
	return nil
}

// aliases are the processors as the format counts them (Abi.AbiAlias).
var aliases = map[string]uint64{"armeabi": 1, "armeabi-v7a": 2, "arm64-v8a": 3, "x86": 4, "x86_64": 5, "mips": 6,
	"mips64": 7, "riscv64": 8}

// processors says for which processor each folder of libraries is (NativeLibraries). Without it a store gives every
// device the libraries of all.
func (m *module) processors() (b []byte) {
	done := map[string]bool{}
	for _, place := range m.places() {
		p := processorOf(place)
		if p == "" || done[p] {
			continue
		}
		done[p] = true
		target := field(1, number(1, aliases[p])) // its Abi
		b = append(b, field(1, append(field(1, []byte("lib/"+p)), field(2, target)...))...)
	}
	return b
}
