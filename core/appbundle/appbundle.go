// Package appbundle makes app bundles of Android from their modules, and from a bundle one APK: of all that is in it,
// or of what one kind of device needs. Modules have their manifest and resources in protocol buffers, as aapt2 links
// them; what an APK has instead is made by aapt2, between Resources and Join.
package appbundle

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/appfile/android"
	"gentlepiston.example/piston/core/archive"
)

// Base is the module that every device has.
const Base = "base"

// distribution is the namespace in which a module says how it comes to people.
const distribution = "http://schemas.android.com/apk/distribution"

// The bounds of what is read into memory.
const (
	maxManifest = 16 << 20
	maxTable    = 256 << 20
	maxModules  = 100
)

// Error says what is wrong with a module or a bundle.
type Error struct {
	Where string // a file, or an entry; "" for the whole
	What  string
}

func (e *Error) Error() string {
	if e.Where == "" {
		return e.What
	}
	return e.Where + ": " + e.What
}

func wrong(where, format string, args ...any) error {
	return &Error{where, fmt.Sprintf(format, args...)}
}

// module is one, wherever it lies.
type module struct {
	name     string
	from     string // what it is called in errors
	archive  *archive.Archive
	entries  map[string]*archive.Entry // by their places in a module
	text     []byte                    // the manifest
	manifest *android.Element
}

// places lists where the entries belong, in order.
func (m *module) places() []string {
	list := []string{}
	for place := range m.entries {
		list = append(list, place)
	}
	slices.Sort(list)
	return list
}

const manifestPlace = "manifest/AndroidManifest.xml"

// read reads the manifest.
func (m *module) read() (err error) {
	e := m.entries[manifestPlace]
	if e == nil {
		return wrong(m.from, "it holds no AndroidManifest.xml")
	}
	if m.text, err = m.archive.Read(e, maxManifest); err != nil {
		return err
	}
	if len(m.text) > 2 && m.text[0] == 3 && m.text[1] == 0 { // a chunk of XML, in its binary form
		return wrong(m.from, "its manifest is in the form of an APK: link it with aapt2 link --proto-format")
	}
	if m.manifest, err = android.ReadProto(m.text); err != nil {
		return wrong(m.from, "its manifest cannot be read: %v", err)
	}
	if m.manifest.Name != "manifest" || m.manifest.Plain("package") == "" {
		return wrong(m.from, "its manifest names no package")
	}
	return nil
}

// fused tells whether the module is part of an APK of all: unless it says that it is not.
func (m *module) fused() bool {
	for _, e := range m.manifest.All("module") {
		for _, f := range e.All("fusing") {
			if f.Of(distribution, "include") == "false" {
				return false
			}
		}
	}
	return true
}

// agree checks that modules are of one app.
func agree(list []*module) error {
	base := list[0]
	for _, m := range list[1:] {
		for _, what := range []struct{ name, own, all string }{
			{"package", m.manifest.Plain("package"), base.manifest.Plain("package")},
			{"versionCode", m.manifest.Android("versionCode"), base.manifest.Android("versionCode")},
		} {
			if what.own != what.all {
				return wrong(m.from, "its %s is %.100q, that of the base is %.100q", what.name, what.own, what.all)
			}
		}
	}
	return nil
}

// order puts the base first and features by their names, and refuses what is no set of modules.
func order(list []*module) error {
	slices.SortFunc(list, func(a, b *module) int {
		return cmp.Or(-compareBool(a.name == Base, b.name == Base), strings.Compare(a.name, b.name))
	})
	switch {
	case len(list) == 0 || list[0].name != Base:
		return wrong("", "none of the modules is the base: that is the one whose manifest has no attribute split")
	case len(list) > maxModules:
		return wrong("", "there are %d modules, at most %d are taken", len(list), maxModules)
	}
	for i, m := range list[1:] {
		switch {
		case m.name == list[i].name && m.name == Base:
			return wrong(m.from, "it is a base, too, as %s is; a feature's manifest names it: split=\"charts\"", list[i].from)
		case m.name == list[i].name:
			return wrong(m.from, "it is called %s, as %s is", m.name, list[i].from)
		case !plain(m.name):
			return wrong(m.from, "it is called %.60q; a module has a name of letters, digits and _", m.name)
		}
	}
	return agree(list)
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

func plain(name string) bool {
	return name != "" && len(name) <= 60 && !strings.ContainsFunc(name, func(r rune) bool {
		return r != '_' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	})
}

// processorOf is the processor that a place is for; "" when it is for any.
func processorOf(place string) string {
	if parts := strings.Split(place, "/"); len(parts) > 2 && parts[0] == "lib" {
		return parts[1]
	}
	return ""
}

// dex tells whether a place is one of code.
func dex(place string) bool { return path.Dir(place) == "dex" && path.Ext(place) == ".dex" }
