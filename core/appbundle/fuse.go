package appbundle

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"gentlepiston.example/piston/core/archive"
)

// Device is one that an APK is made for. What is not said, is for all.
type Device struct {
	// Its processor, such as arm64-v8a.
	Processor string `json:"processor"`
	// Dots per inch of its screen.
	Density int `json:"density"`
	// The languages of its people, such as de.
	Languages []string `json:"languages"`
	// The level of its Android.
	Level int `json:"level"`
}

// Bundle is an open app bundle.
type Bundle struct {
	modules []*module // those that an APK is made of
	left    []string  // those that say that they are not for it
}

// Open reads what an app bundle is made of.
func Open(a *archive.Archive) (*Bundle, error) {
	if a.Find("BundleConfig.pb") == nil {
		return nil, wrong("", "it is no app bundle: it holds no BundleConfig.pb")
	}
	by, list := map[string]*module{}, []*module{}
	for _, e := range a.Entries() {
		name, at, deep := strings.Cut(e.Name, "/")
		if e.Folder() || !deep || !IsModule(name) {
			continue
		}
		if by[name] == nil {
			by[name] = &module{name: name, from: "module " + name, archive: a, entries: map[string]*archive.Entry{}}
			list = append(list, by[name])
		}
		by[name].entries[at] = e
	}
	for _, m := range list {
		if err := m.read(); err != nil {
			return nil, err
		}
	}
	if err := order(list); err != nil {
		return nil, err
	}
	b := &Bundle{left: []string{}}
	for _, m := range list {
		if m.name == Base || m.fused() {
			b.modules = append(b.modules, m)
		} else {
			b.left = append(b.left, m.name)
		}
	}
	return b, nil
}

// IsModule tells whether a folder of an app bundle is a module: the others are of the bundle, not of the app.
func IsModule(folder string) bool { return folder != "META-INF" && folder != "BUNDLE-METADATA" }

// Left lists the modules that say they are not part of an APK of all.
func (b *Bundle) Left() []string { return b.left }

// Resources writes what aapt2 turns into the form of an APK: manifest, resource table and resources of all modules.
func (b *Bundle) Resources(w io.Writer) error {
	out := archive.NewWriter(w)
	out.Plain, out.Timeless = true, true
	var manifests, tables [][]byte
	var owners []string
	for _, m := range b.modules {
		manifests = append(manifests, m.text)
		e := m.entries["resources.pb"]
		if e == nil {
			continue
		}
		table, err := m.archive.Read(e, maxTable)
		if err != nil {
			return err
		}
		tables, owners = append(tables, table), append(owners, m.name)
	}
	manifest, err := mergeManifests(manifests[0], manifests[1:])
	if err != nil {
		return err
	}
	if err := out.Add("AndroidManifest.xml", manifest, 0); err != nil {
		return err
	}
	if len(tables) > 0 {
		table, err := mergeTables(owners, tables)
		if err != nil {
			return err
		}
		if err := out.Add("resources.pb", table, 0); err != nil {
			return err
		}
	}
	err = b.each("res/", func(m *module, place string) error { return copied(out, m, place, place) })
	if err != nil {
		return err
	}
	return out.Close()
}

// each goes over what lies in a folder of the modules.
func (b *Bundle) each(dir string, do func(m *module, place string) error) error {
	for _, m := range b.modules {
		for _, place := range m.places() {
			if strings.HasPrefix(place, dir) {
				if err := do(m, place); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// copied takes an entry over under another name.
func copied(out *archive.Writer, m *module, place, name string) error {
	e := *m.entries[place]
	e.Name = name
	return out.Copy(m.archive, &e, 4)
}

// Join writes an APK of resources in their form of an APK, and of what the modules have besides. It is aligned, and not
// signed.
func (b *Bundle) Join(w io.Writer, resources *archive.Archive, d Device) (about About, err error) {
	processor, err := b.fits(d)
	if err != nil {
		return about, err
	}
	out := archive.NewWriter(w)
	out.Plain, out.Timeless = true, true
	for _, e := range resources.Entries() {
		if err := out.Copy(resources, e, 4); err != nil {
			return about, err
		}
	}
	about.Processors = []string{}
	count := 0
	stored := b.modules[0].manifest.First("application").Android("extractNativeLibs") == "false"
	for _, m := range b.modules {
		about.Modules = append(about.Modules, m.name)
		for _, place := range m.places() {
			p := processorOf(place)
			switch root, isRoot := strings.CutPrefix(place, "root/"); {
			case dex(place):
				count++
				err = copied(out, m, place, dexName(count))
			case p != "" && (processor == "" || p == processor):
				if about.Processors = append(about.Processors, p); stored {
					e := *m.entries[place]
					e.Name = place
					err = out.Unpack(m.archive, &e, libraryPage)
				} else {
					err = copied(out, m, place, place)
				}
			case strings.HasPrefix(place, "assets/"):
				err = copied(out, m, place, place)
			case isRoot:
				err = copied(out, m, place, root)
			}
			if err != nil {
				return about, err
			}
		}
	}
	base := About{}
	base.take(b.modules[0])
	about.ID, about.Version, about.Build = base.ID, base.Version, base.Build
	slices.Sort(about.Processors)
	about.Processors = slices.Compact(about.Processors)
	return about, out.Close()
}

// libraryPage is what a library that is not packed lies at a multiple of, so that devices with the larger pages map it.
const libraryPage = 16 << 10

// dexName is that of a file of code, of which the first has no number.
func dexName(n int) string {
	if n == 1 {
		return "classes.dex"
	}
	return fmt.Sprintf("classes%d.dex", n)
}

// runs are the processors whose code a processor runs, the best first.
var runs = map[string][]string{"arm64-v8a": {"arm64-v8a", "armeabi-v7a", "armeabi"},
	"armeabi-v7a": {"armeabi-v7a", "armeabi"}, "x86_64": {"x86_64", "x86"}, "x86": {"x86"}, "riscv64": {"riscv64"}}

// fits tells of which processor the libraries are taken, "" for all; an error when the device cannot run the app.
func (b *Bundle) fits(d Device) (string, error) {
	all := About{}
	for _, m := range b.modules {
		all.take(m)
	}
	lowest := b.modules[0].manifest.First("uses-sdk").Android("minSdkVersion")
	if n, err := strconv.Atoi(lowest); err == nil && d.Level > 0 && d.Level < n {
		return "", wrong("", "the device has Android of level %d, and the app is for %d and later", d.Level, n)
	}
	if d.Processor == "" || len(all.Processors) == 0 {
		return d.Processor, nil
	}
	for _, p := range runs[d.Processor] {
		if slices.Contains(all.Processors, p) {
			return p, nil
		}
	}
	return "", wrong("", "the app has code for %s, and none that %.30q runs", strings.Join(all.Processors, ", "),
		d.Processor)
}
