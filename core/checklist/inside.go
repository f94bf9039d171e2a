package checklist

import (
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/purpose"
)

// The least pixels of an icon: what the usual screens draw (of Android 48 dp at three pixels each; of iOS 60 points at
// three).
const (
	androidIcon = 144
	appleIcon   = 180
)

// icons: one is there, and large enough, unless it is drawn in a way that has no pixels.
func (j *judge) icons() {
	if len(j.Icons) == 0 {
		j.add("no-icon", "Add an icon: android:icon, or AppIcon pictures.", "it has no icon")
		return
	}
	least := map[string]int{"android": androidIcon, "ios": appleIcon}[j.Platform]
	largest := 0
	for _, i := range j.Icons {
		if i.Width == 0 {
			return // a drawing, or a picture that only the device reads
		}
		largest = max(largest, i.Width)
	}
	if largest < least {
		j.add("no-icon", "Add it for larger screens, too.", "its largest icon has %d pixels; screens want %d", largest, least)
	}
}

// purposes: what the app asks people for, it says why.
func (j *judge) purposes() {
	if j.Platform != "ios" {
		return
	}
	if !j.Declared && j.Kind == appfile.IPA {
		j.add("encryption-undeclared", "Add ITSAppUsesNonExemptEncryption to Info.plist: false for what only uses https.",
			"it does not say whether it uses encryption that has to be declared")
	}
	said := map[string]bool{}
	for _, p := range j.Permissions {
		said[p.Name] = strings.TrimSpace(p.Purpose) != ""
	}
	for _, p := range purpose.All {
		for _, word := range p.Words {
			if slices.Contains(j.Uses, word) && !slices.ContainsFunc(p.Keys, func(key string) bool { return said[key] }) {
				j.add("no-purpose", "Add "+p.Keys[0]+" to Info.plist, with a sentence for those who are asked.",
					"%s asks for %s, and it does not say why", word, p.What)
				break
			}
		}
	}
}

// insideRules are the rules about what is inside, by its kind, each with how to mend it.
var insideRules = map[string][2]string{
	appfile.SecretInside: {"secret-inside",
		"Take it out, make a new one, and let a server hold it; when all may read it: may_hold = […]."},
	appfile.TestInside: {"test-code", "Make the dependency one of the tests only, and build the release variant."},
	appfile.MapInside:  {"source-map", "Keep them beside the package, to read crashes by: leave them out of it."},
	appfile.AddressInside: {"own-address",
		"Build with the address of the release; or say that it is meant: hosts = […] in piston/app.toml."},
}

func (j *judge) inside() {
	for _, i := range j.Inside {
		rule, known := insideRules[i.Kind]
		if !known || i.Kind == appfile.AddressInside && j.agreedHost(i.What) || i.Kind == appfile.SecretInside &&
			j.mayHold(i.Path) {
			continue
		}
		j.add(rule[0], rule[1], "%s has %s inside", i.Path, i.What)
	}
}

// mayHold tells whether it was agreed that a file holds what looks like a secret.
func (j *judge) mayHold(name string) bool {
	return slices.ContainsFunc(j.rules.MayHold, func(glob string) bool {
		is, err := doublestar.Match(glob, name)
		return is && err == nil
	})
}

// agreedHost tells whether an address was agreed to.
func (j *judge) agreedHost(address string) bool {
	_, host, _ := strings.Cut(address, "://")
	return slices.ContainsFunc(j.rules.Hosts, func(agreed string) bool {
		is, err := path.Match(agreed, host)
		return is && err == nil
	})
}

// maxNamed is how many are named one by one.
const maxNamed = 3

func (j *judge) symbols() {
	if len(j.Symbols) == 0 {
		return // they were not looked for
	}
	list := j.Unreadable()
	for _, name := range list[:min(len(list), maxNamed)] {
		j.add("symbols-missing", "Have the build write them, and name them: checklist = { symbols = […] }.",
			"no symbols were found for %s", name)
	}
	if len(list) > maxNamed {
		j.add("symbols-missing", "Have the build write them.", "nor for %d more", len(list)-maxNamed)
	}
}
