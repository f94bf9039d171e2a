package versionfile

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentlepiston.example/piston/core/version"
)

// Current is what an app's places say together.
type Current struct {
	Name   version.Parts                    // the highest that stands anywhere; zero when none does
	Builds map[Platform]version.BuildNumber // the highest of each platform; 0 where none stands
	// Differ are places that do not say what the others say, each with those it differs from.
	Differ []Difference
	// Broken are places whose value is none.
	Broken []Place
}

// Difference is two places that ought to say the same.
type Difference struct{ Place, From Place }

func (d Difference) String() string {
	return fmt.Sprintf("%s:%d says %s, and %s:%d says %s", d.Place.File, d.Place.Line, d.Place.Value,
		d.From.File, d.From.Line, d.From.Value)
}

// Platforms are those that an app's places are of.
func (f Found) Platforms() (list []Platform) {
	for _, p := range []Platform{Android, IOS} {
		if slices.ContainsFunc(f.Places, func(o Place) bool { return o.Kind != ID && o.Platform == p }) {
			list = append(list, p)
		}
	}
	if len(list) == 0 {
		return []Platform{Android, IOS} // all places are of both
	}
	shared := func(o Place) bool { return o.Kind == Build && o.Platform == Both }
	if slices.ContainsFunc(f.Places, shared) {
		return []Platform{Android, IOS}
	}
	return list
}

// Is tells whether a place is for a platform, by itself or among others.
func (p Place) Is(platform Platform) bool { return p.Platform == platform || p.Platform == Both }

// ofApp tells that a place is of the app as a whole, not of one flavour. Targets and configurations of Xcode are one
// app.
func (p Place) ofApp() bool { return p.Of == "" || p.Platform == IOS }

// Current reads what the places say.
func (f Found) Current() Current {
	c := Current{Builds: map[Platform]version.BuildNumber{}}
	var highest Place
	names := slices.DeleteFunc(slices.Clone(f.Places), func(p Place) bool {
		return p.Kind != Name || !p.Literal() || !p.ofApp()
	})
	// Those of iOS come last: they hold no pre-release, so that others know better.
	slices.SortStableFunc(names, func(a, b Place) int {
		return cmp.Compare(bit(a.Platform == IOS), bit(b.Platform == IOS))
	})
	for _, p := range names {
		parts, err := version.Parse(p.Value)
		switch {
		case err != nil:
			c.Broken = append(c.Broken, p)
		case highest.Value != "" && p.Platform == IOS && p.Value == c.Name.Plain():
		case highest.Value == "" || parts.Compare(c.Name) > 0:
			c.Name, highest = parts, p
		}
	}
	for _, p := range names {
		if slices.Contains(c.Broken, p) {
			continue
		}
		parts, _ := version.Parse(p.Value)
		if want := c.Name; parts.Compare(want) != 0 && !(p.Platform == IOS && p.Value == want.Plain()) {
			c.Differ = append(c.Differ, Difference{p, highest})
		}
	}
	for _, platform := range []Platform{Android, IOS} {
		c.builds(f, platform)
	}
	return c
}

func bit(is bool) int {
	if is {
		return 1
	}
	return 0
}

// builds reads the build numbers of one platform.
func (c *Current) builds(f Found, platform Platform) {
	var highest Place
	var all []Place
	for _, p := range f.Places {
		if p.Kind != Build || !p.Literal() || !p.Is(platform) || !p.ofApp() {
			continue
		}
		n, err := buildOf(p.Value)
		if err != nil {
			if !slices.Contains(c.Broken, p) {
				c.Broken = append(c.Broken, p)
			}
			continue
		}
		all = append(all, p)
		if highest.Value == "" || n > c.Builds[platform] {
			c.Builds[platform], highest = n, p
		}
	}
	for _, p := range all {
		if n, _ := buildOf(p.Value); n != c.Builds[platform] {
			c.Differ = append(c.Differ, Difference{p, highest})
		}
	}
}

// buildOf reads a build number; of one with dots, as iOS takes them too, only a whole number is one here.
func buildOf(value string) (version.BuildNumber, error) {
	n, err := strconv.ParseInt(strings.ReplaceAll(value, "_", ""), 10, 64)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%.40q is no build number: use a whole number", value)
	}
	return version.BuildNumber(n), nil
}

// Next is what places are to say.
type Next struct {
	Name   version.Parts                    // zero to leave names alone
	Builds map[Platform]version.BuildNumber // a platform that is missing is left alone
}

// Changes are what makes the places say what comes next. Places of one flavour go along when they say what the app
// says, also with a suffix of their own; others, and what is computed, are left.
func (f Found) Changes(next Next) (changes []Change, left []Place) {
	now := f.Current()
	for _, p := range f.Places {
		value, is := f.value(p, now, next)
		switch {
		case !is:
		case !p.Literal() || value == "":
			left = append(left, p)
		case value != p.Value:
			changes = append(changes, Change{p, value})
		}
	}
	return changes, left
}

// value is what a place is to say; is is false when the place is none of what is raised.
func (f Found) value(p Place, now Current, next Next) (value string, is bool) {
	switch p.Kind {
	case Name:
		if len(next.Name.Numbers) == 0 {
			return "", false
		}
		name := next.Name.String()
		if p.Platform == IOS {
			name = next.Name.Plain() // it takes no pre-release
		}
		if rest, begins := strings.CutPrefix(p.Value, now.Name.String()); !p.ofApp() {
			if !begins || rest != "" && !strings.ContainsAny(rest[:1], "-+") {
				return "", true
			}
			return name + rest, true
		}
		return name, true
	case Build:
		n := next.Builds[p.Platform]
		if p.Platform == Both {
			n = max(next.Builds[Android], next.Builds[IOS])
		}
		if n == 0 {
			return "", false
		}
		if old, err := buildOf(p.Value); !p.ofApp() && (err != nil || old != now.Builds[p.Platform]) {
			return "", true
		}
		return strconv.FormatInt(int64(n), 10), true
	}
	return "", false
}
