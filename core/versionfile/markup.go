package versionfile

import (
	"encoding/xml"
	"errors"
	"io"
	"regexp"
	"strings"
)

// element is a start tag or the text of an element, with where it stands.
type element struct {
	path       []string // names from the root on, without their namespaces' prefixes
	start, end int      // of the tag, or of the text
	text       string
	isText     bool
}

// maxNesting bounds how deep markup is followed.
const maxNesting = 100

// walkMarkup visits start tags and texts (Extensible Markup Language 1.0). What is not well-formed is a problem; what
// was visited before it counts.
func (f *finder) walkMarkup(t *text, visit func(e element)) {
	d := xml.NewDecoder(strings.NewReader(t.s))
	d.Strict = true
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // decoded before, or ASCII enough
	d.Entity = map[string]string{}
	var open []string
	for {
		start := int(d.InputOffset())
		tok, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			if len(open) > 0 {
				f.problem(t.problem(start, "it ends within <"+open[len(open)-1]+">"))
			}
			return
		}
		if err != nil {
			if utf := strings.Contains(err.Error(), "invalid UTF-8"); utf {
				f.problem(t.problem(int(d.InputOffset()), "it is not UTF-8, and says no other encoding that can be read"))
				return
			}
			f.problem(t.problem(int(d.InputOffset()), "it is not well-formed XML: "+strings.TrimPrefix(err.Error(),
				"XML syntax error on ")))
			return
		}
		end := int(d.InputOffset())
		switch tok := tok.(type) {
		case xml.StartElement:
			if len(open) == maxNesting {
				f.problem(t.problem(start, "it nests deeper than 100"))
				return
			}
			open = append(open, tok.Name.Local)
			visit(element{path: open, start: start, end: end, text: t.s[start:end]})
		case xml.EndElement:
			if len(open) == 0 || open[len(open)-1] != tok.Name.Local {
				f.problem(t.problem(start, "</"+cut(tok.Name.Local, 40)+"> closes nothing that is open"))
				return
			}
			open = open[:len(open)-1]
		case xml.CharData:
			visit(element{path: open, start: start, end: end, text: t.s[start:end], isText: true})
		}
	}
}

var attributeForm = regexp.MustCompile(`([\w.:-]+)\s*=\s*("[^"]*"|'[^']*')`)

// attributes visits those of a start tag, and where their values stand.
func (e element) attributes(visit func(name string, start, end int)) {
	for _, m := range attributeForm.FindAllStringSubmatchIndex(e.text, -1) {
		visit(e.text[m[2]:m[3]], e.start+m[4]+1, e.start+m[5]-1)
	}
}

// trimmed is where the text of an element stands, without the space around it.
func (e element) trimmed() (start, end int) {
	start = e.start + len(e.text) - len(strings.TrimLeft(e.text, " \t\r\n"))
	return start, start + len(strings.TrimSpace(e.text))
}

// computedForm is a value that is put in later: a reference, or a mark of a template.
var computedForm = regexp.MustCompile(`[$@%{}]`)

// addMarkup takes in a place of markup, as what it is when it only stands for another value.
func (f *finder) addMarkup(t *text, p Place, start, end int) {
	if start == end {
		return
	}
	value := t.s[start:end]
	if computedForm.MatchString(value) {
		p.Computed = "it stands for what is put in: " + cut(value, 60)
		if name, is := buildSetting(value); is {
			p.ref = "setting " + name
		}
	}
	f.add(t, p, start, end)
}

// manifest reads an AndroidManifest.xml (Android developer documentation, "<manifest>").
func manifest(f *finder, t *text) {
	f.walkMarkup(t, func(e element) {
		if e.isText || len(e.path) != 1 || e.path[0] != "manifest" {
			return
		}
		e.attributes(func(name string, start, end int) {
			_, local, _ := strings.Cut(name, ":")
			p := Place{Platform: Android, Format: "Android manifest", key: name, Of: sourceSet(t.file)}
			switch {
			case local == "versionCode":
				p.Kind = Build
			case local == "versionName":
				p.Kind = Name
			case name == "package":
				p.Kind = ID
			default:
				return
			}
			f.addMarkup(t, p, start, end)
		})
	})
}

var sourceSetForm = regexp.MustCompile(`(?:^|/)src/([^/]+)/AndroidManifest\.xml$`)

// sourceSet is the flavour or build type whose manifest a file is; "" for the main one.
func sourceSet(file string) string {
	if m := sourceSetForm.FindStringSubmatch(file); m != nil && m[1] != "main" {
		return m[1]
	}
	return ""
}

// widget reads a hybrid app's config.xml (W3C Packaged Web Apps (Widgets), 7.6, with the attributes of the platforms).
func widget(f *finder, t *text) {
	kinds := map[string]Place{"version": {Kind: Name}, "android-versionCode": {Kind: Build, Platform: Android},
		"ios-CFBundleVersion": {Kind: Build, Platform: IOS}, "id": {Kind: ID}}
	f.walkMarkup(t, func(e element) {
		if e.isText || len(e.path) != 1 || e.path[0] != "widget" {
			return
		}
		e.attributes(func(name string, start, end int) {
			if p, is := kinds[name]; is {
				p.Format, p.key = "config.xml", name
				f.addMarkup(t, p, start, end)
			}
		})
	})
}

// project reads a .NET project or a file of properties that projects share (Microsoft Learn, "MSBuild properties",
// ApplicationDisplayVersion and ApplicationVersion).
func project(f *finder, t *text) {
	kinds := map[string]Kind{"ApplicationDisplayVersion": Name, "ApplicationVersion": Build, "ApplicationId": ID}
	f.walkMarkup(t, func(e element) {
		if !e.isText || len(e.path) != 3 || e.path[0] != "Project" || e.path[1] != "PropertyGroup" {
			return
		}
		start, end := e.trimmed()
		p := Place{Format: ".NET project", Kind: kinds[e.path[2]], key: e.path[2]}
		switch {
		case start == end:
		case p.Kind == "":
			f.define(t, "setting "+e.path[2], p, start, end)
		default:
			f.addMarkup(t, p, start, end)
		}
	})
}

// descriptor reads an XML application descriptor: versionNumber and versionLabel of an application.
func descriptor(f *finder, t *text) {
	if !strings.Contains(t.s, "<versionNumber>") {
		return
	}
	f.walkMarkup(t, func(e element) {
		if !e.isText || len(e.path) != 2 || e.path[0] != "application" {
			return
		}
		p := Place{Format: "application descriptor", key: e.path[1]}
		switch e.path[1] {
		case "versionNumber":
			p.Kind = Name
		case "id":
			p.Kind = ID
		default:
			return
		}
		start, end := e.trimmed()
		f.addMarkup(t, p, start, end)
	})
}
