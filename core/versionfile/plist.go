package versionfile

import (
	"path"
	"regexp"
	"slices"
	"strings"
)

// plistKeys are those that matter (Information Property List Key Reference).
var plistKeys = map[string]Kind{"CFBundleShortVersionString": Name, "CFBundleVersion": Build, "CFBundleIdentifier": ID}

// infoPlist reads an Info.plist, in XML or binary. Those of tests and frameworks are passed by.
func infoPlist(f *finder, t *text) {
	if t.binary {
		f.binaryPlist(t)
		return
	}
	key, ofApp := "", true
	var places []func()
	f.walkMarkup(t, func(e element) {
		if len(e.path) != 3 || e.path[0] != "plist" || e.path[1] != "dict" {
			return
		}
		switch start, end := e.trimmed(); {
		case !e.isText:
			if e.path[2] != "string" && e.path[2] != "key" && e.path[2] != "integer" {
				key = ""
			}
		case e.path[2] == "key":
			key = t.s[start:end]
		case key == "CFBundlePackageType":
			ofApp = !slices.Contains([]string{"FMWK", "BNDL"}, t.s[start:end])
		case plistKeys[key] != "" && e.path[2] == "string":
			p := Place{Kind: plistKeys[key], Platform: IOS, Format: "Info.plist", key: key}
			places = append(places, func() { f.addMarkup(t, p, start, end) })
			key = ""
		}
	})
	if ofApp {
		for _, add := range places {
			add()
		}
	}
}

var testForm = regexp.MustCompile(`(?i)tests?(/|-|$|\.)`)

// isTest tells a file of an app's tests by its folder.
func isTest(name string) bool { return testForm.MatchString(path.Dir(name)) }

var settingForm = regexp.MustCompile(`^\$[({]([A-Za-z_][A-Za-z0-9_]*)(?::[a-z0-9]+)?[)}]$`)

// buildSetting is the name of the build setting that a value stands for.
func buildSetting(value string) (string, bool) {
	m := settingForm.FindStringSubmatch(value)
	if m == nil {
		return "", false
	}
	return m[1], true
}

// settings are build settings that are the version by themselves (Xcode build settings reference).
var settings = map[string]Kind{"MARKETING_VERSION": Name, "CURRENT_PROJECT_VERSION": Build,
	"PRODUCT_BUNDLE_IDENTIFIER": ID}

var (
	assignForm  = regexp.MustCompile(`(?:^|[\r\n])[ \t]*([A-Za-z_]\w*)((?:\[[^\]\r\n]*\])*)[ \t]*=[ \t]*([^\r\n]*)`)
	includeForm = regexp.MustCompile(`(?:^|[\r\n])[ \t]*#include\??[ \t]*"([^"\r\n]+)"`)
	configForm  = regexp.MustCompile(`\[config=([^\]]*)\]`)
)

// xcconfig reads build settings from a text file, and the files it includes.
func xcconfig(f *finder, t *text) {
	for _, m := range includeForm.FindAllStringSubmatch(t.s, -1) {
		name := path.Join(path.Dir(t.file), m[1])
		if _, done := f.texts[name]; !done && path.Ext(name) != ".xcconfig" && slices.Contains(f.tree.Paths, name) {
			if more := f.open(name); more != nil {
				xcconfig(f, more)
			}
		}
	}
	for _, m := range assignForm.FindAllStringSubmatchIndex(t.s, -1) {
		start, value := m[6], t.s[m[6]:m[7]]
		if n := strings.Index(value, "//"); n >= 0 {
			value = value[:n]
		}
		value = strings.TrimRight(value, " \t;")
		if value != "" {
			of := ""
			if c := configForm.FindStringSubmatch(t.s[m[4]:m[5]]); c != nil {
				of = c[1]
			}
			f.setting(t, "xcconfig", t.s[m[2]:m[3]], of, start, start+len(value))
		}
	}
}

// setting takes in a build setting.
func (f *finder) setting(t *text, format, name, of string, start, end int) {
	value := t.s[start:end]
	p := Place{Platform: IOS, Format: format, Of: of, key: name, Kind: settings[name]}
	if strings.Contains(value, "$(inherited)") {
		return
	}
	if p.Kind == "" {
		if !strings.Contains(value, "$") {
			f.define(t, "setting "+name, p, start, end)
		}
		return
	}
	f.addMarkup(t, p, start, end)
}
