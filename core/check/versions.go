package check

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

// described is what a repository says of its apps, and where their versions stand.
type described struct {
	found  []definition.Finding
	places []appPlaces
	partly bool // not all could be read: each app may read all of a repository
}

type appPlaces struct {
	app   *definition.App
	found versionfile.Found
}

// maxVersionBytes bounds what is read for all apps of a repository together.
const maxVersionBytes = 128 << 20

var errTooMuch = errors.New("too much is to be read")

// apps reads app.toml and the app's own files, once.
func (t *Tree) apps() *described {
	if t.described != nil {
		return t.described
	}
	t.described = &described{}
	var text []byte
	if _, has := t.files[definition.AppsPath]; has {
		text = append([]byte{}, t.text(definition.AppsPath)...)
	}
	apps, found := definition.ParseApps(text)
	t.described.found = found
	if apps == nil {
		return t.described
	}
	left := maxVersionBytes
	files := versionfile.Tree{Read: func(name string) ([]byte, error) {
		text := t.text(name)
		if left -= len(text); left < 0 {
			t.cut, t.described.partly = true, true
			return nil, errTooMuch
		}
		return []byte(text), nil
	},
		Link: func(name string) bool { return t.files[name].Link }}
	for _, e := range t.Entries {
		if !e.Submodule {
			files.Paths = append(files.Paths, e.Path)
		}
	}
	for _, name := range apps.Names() {
		places := appPlaces{apps.App[name], apps.App[name].Places(files)}
		t.described.places = append(t.described.places, places)
		t.described.found = append(t.described.found, places.notes(files)...)
	}
	return t.described
}

// appChecker looks at what a pipeline builds.
type appChecker struct{ *checker }

// versions checks what the app's own files say of its version and id.
func (c appChecker) versions() {
	for _, a := range c.tree.apps().places {
		now := a.found.Current()
		for _, p := range a.found.Places {
			c.versionPlace(a.app, p)
		}
		for _, d := range now.Differ {
			c.atPlace("versions-differ", d.Place, d.String(),
				"Make them say the same: piston versions raise to NAME writes all of them.")
		}
		for _, p := range now.Broken {
			c.atPlace("versions-differ", p, fmt.Sprintf("%q is no version", p.Value), "Write numbers with dots, such as 1.4.0; "+
				"for a build number a whole number.")
		}
		for _, p := range a.found.Problems {
			if n := len(c.tree.text(p.File)); c.tree.apps().partly || n == 0 || n > definition.MaxFileSize {
				continue // it came cut off, or not at all: a check reads no longer ones
			}
			f := whole("versions-unread", p.File, "its versions cannot be read: "+p.Message, "Mend the file.")
			f.Line, f.Col = p.Line, p.Col
			c.keep(c.harder(f))
		}
	}
}

// harder makes an error of what a raise would stop at.
func (c appChecker) harder(f definition.Finding) definition.Finding {
	if c.p.Raises() {
		f.Severity = definition.Error
	}
	return f
}

func (c appChecker) atPlace(code string, p versionfile.Place, message, fix string) {
	f := whole(code, p.File, message, fix)
	f.Line, f.Col, f.Excerpt = p.Line, p.Col, p.Excerpt()
	if code == "versions-differ" {
		f = c.harder(f)
	}
	c.keep(f)
}

func (c appChecker) versionPlace(app *definition.App, p versionfile.Place) {
	switch {
	case !p.Literal():
	case p.Kind == versionfile.ID:
		c.appID(app, p)
	case p.Kind == versionfile.Build:
		c.buildPlace(p)
	}
}

// appID checks an id against those of templates, and against what app.toml says.
func (c appChecker) appID(app *definition.App, p versionfile.Place) {
	if exampleID.MatchString(p.Value) {
		c.atPlace("example-app-id", p,
			fmt.Sprintf("the app's id is %s, which is a template's; stores refuse it", p.Value),
			"Choose your own: it can never be changed after the first release.")
		return
	}
	want := map[versionfile.Platform]string{versionfile.Android: app.Android, versionfile.IOS: app.IOS}[p.Platform]
	if want == "" || p.Value == want || strings.HasPrefix(p.Value, want+".") ||
		p.Of != "" && p.Platform != versionfile.IOS || p.Format == "Android manifest" { // its package is that of the code
		return
	}
	how := "is"
	if strings.EqualFold(want, p.Value) {
		how = "differs in letter case only: it is"
	}
	c.atPlace("app-id-differs", p, fmt.Sprintf("the id of %s %s %s here, and %s in %s", app.Name, how, p.Value, want,
		definition.AppsPath), "Correct one of them: to a store they are two apps.")
}

func (c appChecker) buildPlace(p versionfile.Place) {
	const fix = "Let a step raise it: raise = { by = \"patch\" }; or take it from PISTON_BUILD_NUMBER."
	n, err := strconv.ParseInt(p.Value, 10, 64)
	switch {
	case err != nil:
	case n == 0 && !c.p.Raises():
		c.atPlace("version-code", p, "the version code is 0; stores take numbers from 1 up", fix)
	case version.BuildNumber(n) > version.MaxBuildNumber:
		c.atPlace("version-code", p, fmt.Sprintf("the build number %d is above %d, the most that stores take", n,
			version.MaxBuildNumber), "Number lower, by a scheme of piston/app.toml.")
	case c.service != nil && n <= c.service.LastBuild && !c.p.Raises():
		c.atPlace("version-code", p, fmt.Sprintf("the version code is fixed at %d, and build %d has been issued; stores "+
			"refuse a number that is not higher", n, c.service.LastBuild), fix)
	}
}

// behind finds names and numbers that are not above what was handed out already, where no step raises them.
func (c appChecker) behind() {
	if c.service == nil || c.p.Raises() {
		return
	}
	for _, a := range c.tree.apps().places {
		now := a.found.Current()
		for _, p := range a.found.Places {
			if !p.Literal() {
				continue
			}
			for _, g := range c.service.Given {
				if g.App == a.app.Name && (p.Platform == "" || string(p.Platform) == g.Platform) {
					c.behindGiven(now, p, g)
				}
			}
		}
	}
}

func (c appChecker) behindGiven(now versionfile.Current, p versionfile.Place, g Given) {
	const fix = `Let a step raise it: raise = { by = "patch" }; or by hand: piston versions raise patch.`
	switch given, err := version.Parse(g.Name); p.Kind {
	case versionfile.Name:
		if err == nil && len(now.Name.Numbers) > 0 && p.Value == now.Name.String() && now.Name.Compare(given) < 0 {
			c.atPlace("version-behind", p, fmt.Sprintf("it says %s, and %s was given out for %s on %s", p.Value, g.Name, g.App,
				g.Platform), fix)
		}
	case versionfile.Build:
		n, err := strconv.ParseInt(p.Value, 10, 64)
		if err == nil && n <= g.Build && n > c.service.LastBuild { // below that it is said elsewhere
			c.atPlace("version-code", p, fmt.Sprintf("the build number is %d, and %d was given out for %s on %s; stores refuse "+
				"a number that is not higher", n, g.Build, g.App, g.Platform), fix)
		}
	}
}

// tagged finds names that are not that of the tag on the commit, in a pipeline that such tags start. One that raises by
// the tag writes its name.
func (c appChecker) tagged() {
	on := c.p.Trigger.Tag
	if on == nil || c.p.Raises() {
		return
	}
	for _, tag := range c.tree.Tags {
		name, err := version.OfTag(tag)
		if err != nil || len(on.Names) > 0 && !anyMatches(on.Names, tag) || anyMatches(on.ExceptNames, tag) {
			continue
		}
		for _, a := range c.tree.apps().places {
			now := a.found.Current()
			for _, p := range a.found.Places {
				if p.Kind == versionfile.Name && p.Literal() && p.Value == now.Name.String() && now.Name.Compare(name) != 0 {
					c.atPlace("versions-differ", p, fmt.Sprintf("it says %s, and the commit has the tag %s", p.Value, tag),
						`Raise before tagging, or let the run do it: raise = { by = "tag" }.`)
				}
			}
		}
	}
}
