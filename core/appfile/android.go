package appfile

import (
	"bytes"
	"cmp"
	"errors"
	"image"
	_ "image/png" // what icons are
	"path"
	"slices"
	"strings"

	_ "golang.org/x/image/webp" // and this

	"gentlepiston.example/piston/core/appfile/android"
	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/sign/apk"
)

// readAndroid reads what an APK or the base of an app bundle says.
func (p *Package) readAndroid() error {
	p.Platform = "android"
	name, read, prefix := "AndroidManifest.xml", android.ReadXML, ""
	if p.Kind == Bundle {
		name, read, prefix = "base/manifest/AndroidManifest.xml", android.ReadProto, "base/"
	}
	text, err := p.Read(p.Find(name), maxManifest)
	if err != nil {
		return err
	}
	manifest, err := read(text)
	if err != nil {
		return wrong("%s cannot be read: %v", name, err)
	}
	if manifest.Name != "manifest" || manifest.Plain("package") == "" {
		return wrong("%s names no package", name)
	}
	p.manifest(manifest)
	if err := p.resources(manifest.First("application"), prefix); err != nil {
		return err
	}
	if err := errors.Join(p.libraries(), p.code()); err != nil {
		return err
	}
	return p.readSigners()
}

// manifest takes what a manifest says.
func (p *Package) manifest(m *android.Element) {
	p.ID, p.Version = m.Plain("package"), m.Android("versionName")
	p.Build = m.Android("versionCode")
	uses := m.First("uses-sdk")
	p.Lowest, p.Target = cmp.Or(uses.Android("minSdkVersion"), "1"), uses.Android("targetSdkVersion")
	if p.Target == "" {
		p.Target = p.Lowest
	}
	for _, element := range []string{"uses-permission", "uses-permission-sdk-23"} {
		for _, e := range m.All(element) {
			name := e.Android("name")
			if !slices.ContainsFunc(p.Permissions, func(o Permission) bool { return o.Name == name }) {
				p.Permissions = append(p.Permissions, Permission{Name: name, Means: meaning(name)})
			}
		}
	}
	slices.SortFunc(p.Permissions, func(a, b Permission) int { return strings.Compare(a.Name, b.Name) })
	app := m.First("application")
	p.Label = app.Android("label")
	p.Debuggable, p.TestOnly = app.Android("debuggable") == "true", app.Android("testOnly") == "true"
	p.Cleartext = app.Android("usesCleartextTraffic") == "true"
}

// resources finds label, icons and languages in the resource table.
func (p *Package) resources(app *android.Element, prefix string) error {
	name, read := "resources.arsc", android.ReadTable
	if p.Kind == Bundle {
		name, read = prefix+"resources.pb", android.ReadProtoTable
	}
	e := p.Find(name)
	if e == nil {
		return nil
	}
	text, err := p.Read(e, maxTable)
	if err != nil {
		return err
	}
	table, err := read(text)
	if err != nil {
		return wrong("%s cannot be read: %v", e.Name, err)
	}
	p.Languages = table.Languages()
	if ref := app.Ref("label"); ref != 0 {
		p.Label = ""
		for _, v := range table.Resolve(ref) {
			p.Label = cmp.Or(p.Label, v.Text)
		}
	}
	p.network(table, app, prefix)
	for _, v := range table.Resolve(app.Ref("icon")) {
		if len(p.Icons) == maxIcons {
			break
		}
		if e := p.Find(prefix + v.Text); e != nil {
			p.icon(e, v.Density)
		}
	}
	return nil
}

// The bounds of icons: how many are looked at, and how many bytes of each.
const (
	maxIcons = 100
	maxIcon  = 1 << 20
)

func (p *Package) icon(e *archive.Entry, density int) {
	icon := Icon{Path: e.Name, Density: density}
	if b, err := p.beginning(e, maxIcon); err == nil {
		if c, _, err := image.DecodeConfig(bytes.NewReader(b)); err == nil {
			icon.Width, icon.Height = c.Width, c.Height
		}
	}
	p.Icons = append(p.Icons, icon)
}

// libraries reads the heads of native libraries.
func (p *Package) libraries() error {
	for _, e := range p.Entries() {
		in := e.Name
		if p.Kind == Bundle {
			_, in, _ = strings.Cut(in, "/")
		}
		if e.Folder() || !strings.HasPrefix(in, "lib/") || path.Ext(in) != ".so" {
			continue
		}
		processor := strings.Split(in, "/")[1]
		if !slices.Contains(p.Processors, processor) {
			p.Processors = append(p.Processors, processor)
		}
		b, err := p.beginning(e, maxBeginning)
		if err != nil {
			return err
		}
		program := readELF(b)
		program.Path, program.Kind, program.Processor, program.Size = e.Name, "library", processor, e.Size
		p.Programs = append(p.Programs, program)
	}
	slices.Sort(p.Processors)
	if p.Kind == APK {
		p.Misplaced = apk.Misplaced(p.Archive)
	}
	return nil
}
