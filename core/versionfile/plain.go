package versionfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
)

var (
	// propertyForm is a line of a properties file (Java, java.util.Properties.load).
	propertyForm = regexp.MustCompile(`(?:^|[\r\n])[ \t\f]*([A-Za-z_][\w.-]*)[ \t\f]*[=: \t][ \t\f]*([^\r\n]*)`)
	tableForm    = regexp.MustCompile(`(?:^|[\r\n])[ \t]*\[([^\]\r\n]*)\]`)
	catalogForm  = regexp.MustCompile(`(?:^|[\r\n])[ \t]*["']?([\w-]+)["']?[ \t]*=[ \t]*(?:"([^"\r\n]*)"|'([^'\r\n]*)')`)
	pubspecForm  = regexp.MustCompile(`(?:^|[\r\n])version[ \t]*:[ \t]*(["']?)([^"'#\s+]+)(?:\+([^"'#\s]+))?`)
	plainForm    = regexp.MustCompile(`^[ \t]*v?([^\s]+)[ \t]*(?:\r|\n|$)`)
)

// properties takes in what a build may read from a properties file.
func properties(f *finder, t *text) {
	for _, m := range propertyForm.FindAllStringSubmatchIndex(t.s, -1) {
		if value := strings.TrimRight(t.s[m[4]:m[5]], " \t"); value != "" {
			f.define(t, "property "+t.s[m[2]:m[3]], Place{Format: "properties", key: t.s[m[2]:m[3]]}, m[4], m[4]+len(value))
		}
	}
}

// catalog takes in the versions of a version catalog (Gradle, "The version catalog TOML file format"). As in the build,
// a dash or underscore in a name is a dot.
func catalog(f *finder, t *text) {
	tables := tableForm.FindAllStringSubmatchIndex(t.s, -1)
	for i, m := range tables {
		if strings.TrimSpace(t.s[m[2]:m[3]]) != "versions" {
			continue
		}
		end := len(t.s)
		if i+1 < len(tables) {
			end = tables[i+1][0]
		}
		for _, v := range catalogForm.FindAllStringSubmatchIndex(t.s[m[1]:end], -1) {
			name := strings.NewReplacer("-", ".", "_", ".").Replace(t.s[m[1]+v[2] : m[1]+v[3]])
			at := v[4:6]
			if at[0] < 0 {
				at = v[6:8]
			}
			f.define(t, "catalog "+name, Place{Format: "version catalog", key: name}, m[1]+at[0], m[1]+at[1])
		}
	}
}

// pubspec reads name and number from the version of a pubspec.yaml: 1.4.0+12 is the name 1.4.0 and the number 12.
func pubspec(f *finder, t *text) {
	m := pubspecForm.FindStringSubmatchIndex(t.s)
	if m == nil {
		return
	}
	f.addMarkup(t, Place{Kind: Name, Format: "pubspec", key: "version"}, m[4], m[5])
	if m[6] >= 0 {
		f.addMarkup(t, Place{Kind: Build, Format: "pubspec", key: "version"}, m[6], m[7])
	}
}

// plain reads a file that is nothing but a version name on its first line.
func plain(f *finder, t *text) {
	if m := plainForm.FindStringSubmatchIndex(t.s); m != nil {
		f.add(t, Place{Kind: Name, Format: "version file"}, m[2], m[3])
	}
}

// walkJSON visits the values of a JSON text that are texts or numbers (RFC 8259), with the path of keys to them.
func (f *finder) walkJSON(t *text, visit func(keys []string, start, end int)) {
	d := json.NewDecoder(strings.NewReader(t.s))
	d.UseNumber()
	type level struct {
		key  string
		list bool
		next bool // a key comes next
	}
	var levels []level
	last := 0
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			f.problem(t.problem(int(d.InputOffset()), "it is not valid JSON: "+err.Error()))
			return
		}
		end := int(d.InputOffset())
		top := len(levels) - 1
		delim, is := tok.(json.Delim)
		switch {
		case is && (delim == '{' || delim == '['):
			if len(levels) == maxNesting {
				f.problem(t.problem(end, "it nests deeper than 100"))
				return
			}
			levels = append(levels, level{list: delim == '[', next: delim == '{'})
		case is:
			levels = levels[:top]
			if top = len(levels) - 1; top >= 0 {
				levels[top].next = !levels[top].list
			}
		case top >= 0 && levels[top].next:
			levels[top].key, levels[top].next = tok.(string), false
		case top >= 0:
			levels[top].next = !levels[top].list
			start := last + len(t.s[last:end]) - len(bytes.TrimLeft([]byte(t.s[last:end]), " \t\r\n:,"))
			keys := make([]string, len(levels))
			for i, l := range levels {
				keys[i] = l.key
			}
			if s, is := tok.(string); is && end-start == len(s)+2 {
				visit(keys, start+1, end-1)
			} else if _, is := tok.(json.Number); is {
				visit(keys, start, end)
			}
		}
		last = end
	}
}

// appJSON reads an app.json: version, ios.buildNumber, android.versionCode and the ids, at the top or one below it.
func appJSON(f *finder, t *text) {
	places := map[string]Place{"version": {Kind: Name}, "ios/buildNumber": {Kind: Build, Platform: IOS},
		"ios/version": {Kind: Name, Platform: IOS}, "android/version": {Kind: Name, Platform: Android},
		"android/versionCode": {Kind: Build, Platform: Android}, "ios/bundleIdentifier": {Kind: ID, Platform: IOS},
		"android/package": {Kind: ID, Platform: Android}}
	f.walkJSON(t, func(keys []string, start, end int) {
		p, is := places[strings.Join(keys, "/")]
		if !is {
			p, is = places[strings.Join(keys[min(1, len(keys)):], "/")]
		}
		if is && len(keys) <= 3 {
			p.Format, p.key = "app.json", keys[len(keys)-1]
			f.addMarkup(t, p, start, end)
		}
	})
}

// packageJSON reads the version of a package.json, or that of a lock file beside it. It goes along where it agrees with
// the app's other places: many are never raised.
func packageJSON(f *finder, t *text) {
	if !f.isApp(path.Dir(t.file)) {
		return
	}
	lock := path.Base(t.file) != "package.json"
	f.walkJSON(t, func(keys []string, start, end int) {
		own := len(keys) == 1 && keys[0] == "version"
		if own || lock && slices.Equal(keys, []string{"packages", "", "version"}) {
			f.addMarkup(t, Place{Kind: Name, Format: path.Base(t.file), follows: true, key: "version"}, start, end)
		}
	})
}

// isApp tells whether what lies beside a package.json makes an app.
func (f *finder) isApp(dir string) bool {
	prefix := dir + "/"
	if dir == "." {
		prefix = ""
	}
	return slices.ContainsFunc(f.tree.Paths, func(name string) bool {
		rest, below := strings.CutPrefix(name, prefix)
		return below && (rest == "config.xml" || rest == "app.json" || strings.HasPrefix(rest, "android/") ||
			strings.HasPrefix(rest, "ios/"))
	})
}

// pattern takes in the place that a pattern describes.
func (f *finder) pattern(p Pattern) {
	bad := func(message string) { f.problem(Problem{File: p.File, Message: message}) }
	form, err := regexp.Compile("(?m)" + p.Form)
	if err != nil || form.NumSubexp() != 1 {
		bad(fmt.Sprintf("the pattern %.60q is no regular expression with one group", p.Form))
		return
	}
	if !slices.Contains(f.tree.Paths, p.File) {
		bad("there is no such file, though a place of app.toml names it")
		return
	}
	t := f.open(p.File)
	if t == nil {
		return
	}
	found := form.FindAllStringSubmatchIndex(t.s, 20)
	if len(found) == 0 || found[0][2] < 0 {
		bad(fmt.Sprintf("the pattern %.60q matches nothing in it", p.Form))
		return
	}
	f.out.Places = slices.DeleteFunc(f.out.Places, func(o Place) bool { // what a reader found there too is the pattern's
		return o.File == p.File && slices.ContainsFunc(found, func(m []int) bool { return o.start == m[2] })
	})
	for _, m := range found {
		if m[2] >= 0 && m[2] < m[3] {
			f.add(t, Place{Kind: p.Kind, Platform: p.Platform, Format: "pattern"}, m[2], m[3])
		}
	}
}
