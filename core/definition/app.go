package definition

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

// Apps is what is true of a repository's apps, whatever pipeline builds them.
type Apps struct {
	// The apps, by their names. Without any there is one, called app, and all of the repository is its own.
	App map[string]*App `toml:"app"`
}

// App is one app, on one platform or two.
type App struct {
	Name string `toml:"-"`
	// What it is.
	//
	//	about = "The tide almanac"
	About string `toml:"about"`
	// Its id on Android: the application ID.
	//
	//	android = "org.tidewick.almanac"
	Android string `toml:"android"`
	// Its id on iOS: the bundle identifier.
	//
	//	ios = "org.tidewick.almanac"
	IOS string `toml:"ios"`
	// The folders and files in which its versions stand. Default: all of the repository.
	//
	//	in = ["android", "ios", "VERSION"]
	In []string `toml:"in"`
	// How its build numbers follow each other. Default: each is one more than the last.
	Build *Numbering `toml:"build"`
	// Places that are not found by themselves.
	Place []AppPlace `toml:"place"`
	// What those who use it are told of a release.
	Notes *AppNotes `toml:"notes"`
	// What its packages must meet, besides what every package must (the step checklist).
	Checklist *AppChecklist `toml:"checklist"`
}

// Numbering is how build numbers follow each other.
type Numbering struct {
	// count: one more than the last; date: the day and a counter, such as 2026112601; name: the numbers of the version
	// name, each in so many digits. None is above 2,100,000,000, the most that stores take.
	//
	//	scheme = "date"
	Scheme string `toml:"scheme"`
	// For the scheme name, the digits of each number. One more than the name has numbers is a counter.
	//
	//	scheme = "name"
	//	digits = [2, 2, 2, 2]    # 1.4.0 is 1040000
	Digits []int `toml:"digits"`
	// How many numbers one run takes, for a package for each processor. PISTON_BUILD_NUMBER is the first.
	//
	//	span = 3
	Span int `toml:"span"`
	// Whether each platform counts for itself. Default: one number for both.
	//
	//	each = true
	Each bool `toml:"each"`
}

// AppPlace is a place where a version stands.
type AppPlace struct {
	// A file of the repository.
	//
	//	file = "src/about.h"
	//	pattern = 'TIDEWICK_VERSION "(.*)"'
	//	is = "name"
	File string `toml:"file"`
	// A regular expression (RE2) with one group: the value.
	Pattern string `toml:"pattern"`
	// name, for a version name; build, for a build number.
	Is string `toml:"is"`
	// The platform it is for, android or ios. Default: both.
	Platform string `toml:"platform"`
}

// SoleApp is what the app is called that no app.toml names.
const SoleApp = "app"

// AppsPath is where a repository describes its apps.
const AppsPath = Folder + "/" + AppFile

// maxApps bounds the apps of a repository, and what is listed of one.
const maxApps = 50

// ParseApps reads a repository's app.toml; nil text is one without any. The apps are nil when any finding is an error.
func ParseApps(text []byte) (*Apps, []Finding) {
	a := new(Apps)
	var found []Finding
	if text != nil {
		var ix *index
		if ix, found = decode(&source{file: AppsPath, text: text}, a); ix == nil {
			return nil, Foremost(found)
		}
		v := &validator{ix: ix, found: found}
		v.apps(a)
		found = v.found
		sortFindings(found)
	}
	if HasErrors(found) {
		return nil, Foremost(found)
	}
	if len(a.App) == 0 {
		a.App = map[string]*App{SoleApp: {}}
	}
	for name, app := range a.App {
		app.Name = name
	}
	return a, found
}

// Names lists the apps.
func (a *Apps) Names() []string { return sortedKeys(a.App) }

// Named finds an app: the only one when the name is "".
func (a *Apps) Named(name string) (*App, error) {
	if name == "" && len(a.App) == 1 {
		return a.App[a.Names()[0]], nil
	}
	if app := a.App[name]; app != nil {
		return app, nil
	}
	if name == "" {
		return nil, fmt.Errorf("there are several apps; say which: %s", strings.Join(a.Names(), ", "))
	}
	return nil, fmt.Errorf("there is no app %q; %s has: %s", name, AppsPath, strings.Join(a.Names(), ", "))
}

// WithID finds the app that has an id on a platform; nil when none has. Where nobody has said an id, it is the only
// app.
func (a *Apps) WithID(platform, id string) *App {
	for _, name := range a.Names() {
		app := a.App[name]
		if platform == "android" && app.Android == id || platform == "ios" && app.IOS == id {
			return app
		}
	}
	if only := a.App[SoleApp]; only != nil && only.Android == "" && only.IOS == "" {
		return only
	}
	return nil
}

// idForm is an id that both platforms take, as far as they agree (Android developer documentation, "Set the application
// ID"; Information Property List Key Reference, CFBundleIdentifier).
var idForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_-]*(\.[A-Za-z][A-Za-z0-9_-]*)+$`)

func (v *validator) apps(a *Apps) {
	if len(a.App) > maxApps {
		v.add("too-many", fmt.Sprintf("%d apps; a repository may have %d", len(a.App), maxApps), "Split it.", "app")
		return
	}
	for _, name := range sortedKeys(a.App) {
		app, at := a.App[name], func(more ...string) []string { return append([]string{"app", name}, more...) }
		if app == nil {
			app = &App{}
			a.App[name] = app
		}
		v.name(name, "app", at()...)
		for key, id := range map[string]string{"android": app.Android, "ios": app.IOS} {
			if id != "" && (!idForm.MatchString(id) || len(id) > 150) {
				v.add("bad-value", fmt.Sprintf("%.60q is no app id", id), "Write it as org.tidewick.almanac.", at(key)...)
			}
		}
		if len(app.In) > maxApps || len(app.Place) > maxApps {
			v.add("too-many", fmt.Sprintf("an app may name %d places", maxApps), "Name fewer.", at()...)
			continue
		}
		for i, dir := range app.In {
			v.relative(dir, at("in", fmt.Sprint(i))...)
		}
		if n := app.Build; n != nil {
			v.oneOf(n.Scheme, schemeWords(), at("build", "scheme")...)
			if wrong := n.Numbering().Complaint(); wrong != "" {
				v.add("bad-value", wrong, "See the reference of app.toml.", at("build")...)
			}
		}
		v.checklist(name, app.Checklist)
		if app.Notes != nil {
			v.appNotes(*app.Notes, func(key string) []string { return at("notes", key) })
		}
		for i, p := range app.Place {
			v.appPlace(p, func(key string) []string { return at("place", fmt.Sprint(i), key) })
		}
	}
}

func (v *validator) appPlace(p AppPlace, at func(string) []string) {
	v.relative(p.File, at("file")...)
	form, err := regexp.Compile(p.Pattern)
	switch {
	case err != nil:
		v.add("bad-value", "the pattern is no regular expression: "+err.Error(), "See RE2's syntax.", at("pattern")...)
	case len(p.Pattern) > 500 || form.NumSubexp() != 1:
		v.add("bad-value", fmt.Sprintf("the pattern has %d groups; the value is what one group matches", form.NumSubexp()),
			"Put parentheses around the value, and (?: ) around what else belongs together.", at("pattern")...)
	}
	if p.Is == "" {
		v.add("missing-key", "the place does not say what stands there", `Add is = "name" or is = "build".`, at("file")...)
	}
	v.oneOf(p.Is, []string{string(versionfile.Name), string(versionfile.Build)}, at("is")...)
	v.oneOf(p.Platform, []string{string(versionfile.Android), string(versionfile.IOS)}, at("platform")...)
}

func schemeWords() (list []string) {
	for _, s := range version.Schemes {
		list = append(list, string(s))
	}
	return list
}

// Numbering is how its build numbers are made.
func (n *Numbering) Numbering() version.Numbering {
	if n == nil {
		return version.Numbering{}
	}
	return version.Numbering{Scheme: version.Scheme(n.Scheme), Digits: n.Digits, Span: n.Span}
}

// EachPlatform tells whether each platform counts for itself.
func (n *Numbering) EachPlatform() bool { return n != nil && n.Each }

// Places finds where the app's versions stand.
func (a *App) Places(t versionfile.Tree) versionfile.Found {
	var patterns []versionfile.Pattern
	for _, p := range a.Place {
		patterns = append(patterns, versionfile.Pattern{File: path.Clean(p.File), Form: p.Pattern,
			Kind: versionfile.Kind(p.Is), Platform: versionfile.Platform(p.Platform)})
	}
	return versionfile.Find(t, a.In, patterns)
}

// Platforms are those the app is for, as far as app.toml says.
func (a *App) Platforms() (list []versionfile.Platform) {
	if a.Android != "" {
		list = append(list, versionfile.Android)
	}
	if a.IOS != "" {
		list = append(list, versionfile.IOS)
	}
	return list
}

// PlatformsIn are those the app is for: as app.toml says, else as its places say.
func (a *App) PlatformsIn(found versionfile.Found) []versionfile.Platform {
	if list := a.Platforms(); len(list) > 0 {
		return list
	}
	return slices.Clone(found.Platforms())
}

// NextBuilds gives the next build number of each platform, from the highest that are known of.
func (a *App) NextBuilds(found versionfile.Found, last map[versionfile.Platform]version.BuildNumber, name version.Parts,
	now time.Time) (map[versionfile.Platform]version.BuildNumber, error) {
	from := map[string]version.BuildNumber{}
	for _, p := range a.PlatformsIn(found) {
		from[string(p)] = last[p]
	}
	numbers, err := a.Build.Numbering().NextOf(from, a.Build.EachPlatform(), name, now)
	next := map[versionfile.Platform]version.BuildNumber{}
	for p, n := range numbers {
		next[versionfile.Platform(p)] = n
	}
	return next, err
}
