package action

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

const packageAbout = "Makes a package of what the steps before have built: an app bundle of modules, which aapt2 has " +
	"linked in protocol buffers and to which code, libraries and assets were added; or, for testers, one APK of an app " +
	"bundle, with all that is in it or with what one kind of device needs. It is aligned, and not signed: `sign` comes " +
	"after it. A file that is there already is not written over. APKs need aapt2 on the runner."

// Pack makes a package.
type Pack struct {
	// Globs of the modules of an app bundle: one base, and features, whose manifests name them (`split`).
	//
	//	package = { modules = ["out/base.zip", "out/charts.zip"], into = "out/tidewick.aab" }
	Modules []string `toml:"modules" json:"modules,omitempty"`
	// The file of names that a shrinker took away, which goes into the app bundle for stores to read crashes by.
	Mapping string `toml:"mapping" json:"mapping,omitempty"`
	// The app bundle of which an APK is made.
	//
	//	package = { bundle = "out/tidewick.aab", into = "out/universal.apk" }
	Bundle string `toml:"bundle" json:"bundle,omitempty"`
	// The device that the APK is for. Default: all.
	Device *Device `toml:"device" json:"device,omitempty"`
	// The file that is made: NAME.aab of modules, NAME.apk of an app bundle.
	Into string `toml:"into" json:"into"`
}

// Device is a kind of device that an APK is made for.
type Device struct {
	// Its processor: arm64-v8a, armeabi-v7a, x86_64, x86 or riscv64. Default: all.
	//
	//	package = { bundle = "out/t.aab", into = "out/phone.apk", device = { processor = "arm64-v8a", density = 420 } }
	Processor string `toml:"processor" json:"processor,omitempty"`
	// Dots per inch of its screen. Default: pictures for all.
	Density int `toml:"density" json:"density,omitempty"`
	// The languages of its people, such as de. Default: all that the app speaks.
	Languages []string `toml:"languages" json:"languages,omitempty"`
	// The level of its Android. An app that is for later ones fails the step.
	Level int `toml:"level" json:"level,omitempty"`
}

// DeviceProcessors are the processors of Android's devices.
var DeviceProcessors = []string{"arm64-v8a", "armeabi-v7a", "riscv64", "x86", "x86_64"}

// Complaints implements Action.
func (p *Pack) Complaints() (list []Complaint) {
	bad := func(key, fix, format string, args ...any) {
		list = append(list, Complaint{"bad-value", key, fmt.Sprintf(format, args...), fix})
	}
	suffix := ".aab"
	switch {
	case len(p.Modules) > 0 && p.Bundle != "":
		bad("bundle", "Make each a step of its own.", "package has modules and bundle; it makes one thing")
	case p.Bundle != "":
		suffix = ".apk"
		if outside(p.Bundle) || path.IsAbs(p.Bundle) {
			bad("bundle", `Write bundle = "out/tidewick.aab", for example.`, "%.60q is no file of the workspace", p.Bundle)
		}
		if p.Mapping != "" {
			bad("mapping", "Give it to the step that makes the app bundle.", "an APK has no mapping in it")
		}
	default:
		list = globs("package", p.Modules,
			`Write package = { modules = ["out/base.zip"], into = "out/app.aab" }, for example.`)
		if p.Device != nil {
			bad("device", "Make an APK of the app bundle for it: bundle = …", "an app bundle is for all devices")
		}
	}
	if path.IsAbs(p.Into) || outside(p.Into) || path.Ext(p.Into) != suffix {
		bad("into", fmt.Sprintf("Write into = \"out/app%s\", for example.", suffix),
			"%.60q is no file of the workspace that ends in %s", p.Into, suffix)
	}
	if d := p.Device; d != nil {
		d.complain(bad)
	}
	return list
}

func (d *Device) complain(bad func(key, fix, format string, args ...any)) {
	if d.Processor != "" && !slices.Contains(DeviceProcessors, d.Processor) {
		bad("device", "It is one of "+strings.Join(DeviceProcessors, ", ")+".", "%.30q is no processor of Android's devices",
			d.Processor)
	}
	if d.Density < 0 || d.Density > 2000 {
		bad("device", "Write dots per inch, such as 420.", "a screen has no density of %d", d.Density)
	}
	if d.Level < 0 || d.Level > 1000 {
		bad("device", "Write a level, such as 34.", "there is no level %d of Android", d.Level)
	}
	for _, l := range d.Languages {
		if !languageTag(l) {
			bad("device", "Write languages = [\"de\", \"pt-rBR\"], for example.", "%.30q is no language as resources name it", l)
		}
	}
}

// languageTag tells whether a text is a language as Android's resources are named by: de, pt-rBR, b+sr+Latn.
func languageTag(l string) bool {
	return len(l) >= 2 && len(l) <= 40 && l[0] >= 'a' && l[0] <= 'z' && !strings.ContainsFunc(l, func(r rune) bool {
		return r != '-' && r != '+' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	})
}

// Paths implements Action.
func (p *Pack) Paths() map[string]*string {
	return paths(map[string]*string{"bundle": &p.Bundle, "mapping": &p.Mapping}, map[string][]string{"modules": p.Modules})
}

// Writes implements Action.
func (p *Pack) Writes() map[string]*string { return paths(map[string]*string{"into": &p.Into}, nil) }

// Texts implements Action.
func (p *Pack) Texts() map[string]string { return nil }
