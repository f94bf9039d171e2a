// Package checklist holds packages against the rules that they must meet before they may leave the building: those of
// every package, and those that an app sets for itself. Each finding says what is wrong and how to mend it.
package checklist

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/condition"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/quantity"
)

// Package is what is judged.
type Package struct {
	File string
	appfile.Facts
	App   *definition.App // whose it is; nil when no app has its id
	Name  string          // the version the run has raised; "" when it has raised none
	Build string
	// The last one of the same kind that was kept; nil when this is the first.
	Last  *appfile.Facts
	Today time.Time
}

// Breach is something against a rule.
type Breach struct {
	Rule    string `json:"rule"`
	File    string `json:"file"`
	Message string `json:"message"`
	Fix     string `json:"fix"`
	// Whether it fails nothing.
	Advice bool `json:"advice,omitempty"`
	// Why it is accepted, and until when; empty when it is not.
	Accepted string `json:"accepted,omitempty"`
	Until    string `json:"until,omitempty"`
	// Whether people are asked about it.
	Asked bool `json:"asked,omitempty"`
}

// Judge tells what is against the rules, in their order.
func Judge(p Package) []Breach {
	j := &judge{Package: p, found: []Breach{}}
	if p.App != nil && p.App.Checklist != nil {
		j.rules = *p.App.Checklist
	}
	j.identity()
	j.release()
	j.signature()
	j.processors()
	j.permissions()
	j.purposes()
	j.inside()
	j.symbols()
	j.size()
	j.own()
	for i := range j.found {
		j.accept(&j.found[i])
	}
	return j.found
}

// Against tells whether a finding fails a step: it is more than advice, not accepted, and nobody is asked about it.
func (b Breach) Against() bool { return b.Accepted == "" && !b.Advice && !b.Asked }

// Failed tells whether any finding fails a step.
func Failed(list []Breach) bool { return slices.ContainsFunc(list, Breach.Against) }

type judge struct {
	Package
	rules definition.AppChecklist
	found []Breach
}

func (j *judge) add(rule, fix, format string, args ...any) {
	known, _ := definition.FindListRule(rule)
	j.found = append(j.found, Breach{Rule: rule, File: j.File, Message: fmt.Sprintf(format, args...), Fix: fix,
		Advice: known.Advice})
}

// accept marks a finding that is accepted today, or that people are asked about.
func (j *judge) accept(f *Breach) {
	for _, a := range j.rules.Accept {
		if a.Rule == f.Rule && j.Today.UTC().Format(time.DateOnly) <= a.Until {
			f.Accepted, f.Until = a.Reason, a.Until
		}
	}
	ask := j.rules.Ask
	f.Asked = ask != nil && f.Accepted == "" && slices.Contains(ask.Rules, f.Rule)
}

// placeholders are the beginnings of ids that stand in templates and examples (RFC 2606 has example).
var placeholders = []string{"com.example", "org.example", "net.example", "com.mycompany", "com.yourcompany",
	"com.company.", "com.test.", "com.myapp", "com.yourname", "com.acme."}

func (j *judge) identity() {
	for _, p := range placeholders {
		if strings.HasPrefix(strings.ToLower(j.ID), p) {
			j.add("placeholder-id", "Give the app an id of its own, under a domain that is yours.",
				"the id %s is that of a template", j.ID)
			break
		}
	}
	switch want := j.registered(); {
	case j.App == nil:
		j.add("other-id", "Correct the id, or the one in piston/app.toml.", "no app of %s has the id %s for %s",
			definition.AppsPath, j.ID, j.Platform)
	case want != "" && want != j.ID:
		j.add("other-id", "Correct the id, or the one in piston/app.toml.", "the id is %s, and %s says %s", j.ID,
			definition.AppsPath, want)
	}
	if j.Name != "" && j.Version != j.Name || j.Package.Build != "" && j.Facts.Build != j.Package.Build {
		j.add("other-version", "Build from the files that raise has written, and pass no version by other ways.",
			"it says %s (%s), and the run has raised %s (%s)", j.Version, j.Facts.Build, j.Name, j.Package.Build)
	}
}

// registered is the id that the app says it has.
func (j *judge) registered() string {
	switch {
	case j.App == nil:
		return ""
	case j.Platform == "ios":
		return j.App.IOS
	}
	return j.App.Android
}

func (j *judge) release() {
	if j.Debuggable {
		j.add("debuggable", "Build the release variant: android:debuggable is false there; on iOS get-task-allow is.",
			"anybody can debug it")
	}
	if j.TestOnly {
		j.add("debuggable", "Build the release variant, without android:testOnly.",
			"it is for tests only: no device installs it")
	}
	if j.Cleartext && !j.rules.Cleartext {
		j.add("cleartext", "Remove android:usesCleartextTraffic, or NSAllowsArbitraryLoads; or say cleartext = true.",
			"it may speak unencrypted with any server")
	}
	if target, err := strconv.Atoi(j.Target); j.Platform == "android" && err == nil && target < j.rules.Target {
		j.add("low-target", fmt.Sprintf("Raise targetSdkVersion to %d.", j.rules.Target),
			"it is made for level %d of Android, and %d is the least", target, j.rules.Target)
	}
	j.icons()
}

// soon is how long what signs a package must be good at least.
const soon = 14 * 24 * time.Hour

// Levels of Android from which a scheme is known (source.android.com, "APK Signature Scheme v2", "v3").
var schemeSince = []struct {
	below  int
	scheme string
}{{24, "v1"}, {28, "v2"}, {1 << 30, "v3"}}

func (j *judge) signature() {
	if len(j.Signers) == 0 {
		j.add("unsigned", `Sign it: sign = { files = […], into = "out/signed" }.`, "nobody has signed it")
		return
	}
	lowest, _ := strconv.Atoi(j.Lowest) // a preview's name is no number, and needs what is newest
	for _, s := range schemeSince {
		if j.Kind == appfile.APK && lowest < s.below && !slices.Contains(j.Schemes, s.scheme) {
			j.add("scheme-missing", "Sign it by a step with sign, which takes every scheme that its devices need.",
				"it is for Android from level %d, and has no signature %s", lowest, s.scheme)
		}
	}
	for _, name := range j.Misplaced[:min(len(j.Misplaced), 3)] {
		j.add("misplaced", "Sign it by a step with sign, which puts files where they belong.",
			"%s is not packed, and does not lie where a device maps it", name)
	}
	ending := func(what string, ends time.Time) {
		if left := ends.Sub(j.Today); left < soon {
			j.add("ends-soon", "Renew it before the release.", "%s is good until %s only", what, ends.Format(time.DateOnly))
		}
	}
	ending("the certificate of "+j.Signers[0].Subject, j.Signers[0].Ends)
	switch {
	case j.Profile != nil:
		ending(fmt.Sprintf("the profile %q", j.Profile.Name), j.Profile.Ends)
	case j.Kind == appfile.IPA:
		j.add("no-profile", "Sign it by a step with sign, with an identity that has a profile.",
			"it has no provisioning profile: no device takes it")
	}
}

// twoOf are the processors of Android of 32 bits, each with its 64-bit one.
var twoOf = map[string]string{"armeabi-v7a": "arm64-v8a", "x86": "x86_64"}

// bigPages is the size of pages that newer devices have.
const bigPages = 16 << 10

func (j *judge) processors() {
	for small, large := range twoOf {
		if slices.Contains(j.Processors, small) && !slices.Contains(j.Processors, large) {
			j.add("no-64-bit", fmt.Sprintf("Build the native libraries for %s, too.", large),
				"it has code for %s, and none for %s", small, large)
		}
	}
	for _, p := range j.Programs {
		if wide := p.Processor == "arm64-v8a" || p.Processor == "x86_64"; wide && p.Page > 0 && p.Page < bigPages &&
			j.Platform == "android" {
			j.add("small-pages", "Link it with -z max-page-size=16384.",
				"%s is laid out for pages of %s: devices with larger ones cannot load it", p.Path, quantity.Bytes(p.Page))
		}
	}
	for _, m := range j.Unsplit {
		j.add("not-split", "Make the bundle by a step with package, which says it.",
			"the module %s does not say which of its libraries are for which processor: every device loads all", m)
	}
	agreed, by := j.rules.Processors, "agreed processors"
	if agreed == nil && j.Last != nil {
		agreed, by = j.Last.Processors, "last one"
	}
	if agreed == nil {
		return
	}
	gone, more := apart(j.agreedHere(agreed), j.Processors)
	if len(gone) > 0 {
		j.add("processors", "Build for it again, or accept it: devices with it get no update.",
			"it has no code for %s, of the %s", strings.Join(gone, ", "), by)
	}
	if len(more) > 0 {
		j.add("processors", "Leave it out, or accept it when it is meant.", "it has code for %s, beyond the %s",
			strings.Join(more, ", "), by)
	}
}

// appleProcessors are those of iOS; an app of both systems agrees on all in one list.
var appleProcessors = []string{"arm64", "arm64e", "armv7"}

// agreedHere are those of a list that the package's system has; none when it has no native code.
func (j *judge) agreedHere(list []string) []string {
	if len(j.Processors) == 0 && j.rules.Processors != nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(list), func(p string) bool {
		return slices.Contains(appleProcessors, p) != (j.Platform == "ios")
	})
}

// apart tells what only one of two lists has.
func apart(was, now []string) (gone, more []string) {
	for _, v := range was {
		if !slices.Contains(now, v) {
			gone = append(gone, v)
		}
	}
	for _, v := range now {
		if !slices.Contains(was, v) {
			more = append(more, v)
		}
	}
	return gone, more
}

func names(list []appfile.Permission) (out []string) {
	for _, p := range list {
		out = append(out, p.Name)
	}
	return out
}

func (j *judge) permissions() {
	agreed, by := j.rules.Permissions, "agreed in "+definition.AppsPath
	if agreed == nil {
		if j.Last == nil {
			return
		}
		agreed, by = names(j.Last.Permissions), "what the last one could"
	}
	if _, more := apart(agreed, names(j.Permissions)); len(more) > 0 {
		j.add("permission-added",
			"Remove it, or agree to it: permissions = […] in piston/app.toml, in a change of its own.",
			"it may do more than %s: %s", by, strings.Join(more, ", "))
	}
}

func (j *judge) size() {
	if most, err := quantity.ParseBytes(j.rules.Size); j.rules.Size != "" && err == nil && j.Size > most {
		j.add("too-large", "See what it is made of: piston inspect.", "it has %s, at most %s are allowed",
			quantity.Bytes(j.Size), quantity.Bytes(most))
	}
	growth := int64(definition.DefaultGrowth)
	if j.rules.Growth != nil {
		growth = int64(*j.rules.Growth)
	}
	if j.Last == nil || j.Last.Size == 0 || (j.Size-j.Last.Size)*100 <= j.Last.Size*growth {
		return
	}
	what := ""
	groups, _ := appfile.Compare(*j.Last, j.Facts, 0)
	if len(groups) > 0 {
		most := slices.MaxFunc(groups, func(a, b appfile.Growth) int { return cmp.Compare(a.Grown(), b.Grown()) })
		what = fmt.Sprintf(", most of it %s: %s, was %s", most.Group, quantity.Bytes(most.Now), quantity.Bytes(most.Was))
	}
	j.add("grown", "See what has grown: piston inspect NEW --since OLD. Accept it when it is meant.",
		"it has grown by %d per cent, from %s to %s; %d per cent are allowed%s", (j.Size-j.Last.Size)*100/j.Last.Size,
		quantity.Bytes(j.Last.Size), quantity.Bytes(j.Size), growth, what)
}

// own holds the package against the app's own rules.
func (j *judge) own() {
	about := condition.Package{Kind: string(j.Kind), Platform: j.Platform, ID: j.ID, Label: j.Label, Version: j.Version,
		Build: j.Facts.Build, Lowest: j.Lowest, Target: j.Target, Debuggable: j.Debuggable, Cleartext: j.Cleartext,
		Permissions: names(j.Permissions), Processors: j.Processors, Languages: j.Languages, Schemes: j.Schemes, Size: j.Size,
		Entitlements: j.Entitlements}
	if j.Last != nil {
		about.LastSize = j.Last.Size
	}
	for _, d := range j.Domains {
		about.Domains = append(about.Domains, d.Name)
	}
	for _, i := range j.Inside {
		about.Inside = append(about.Inside, i.Kind)
	}
	for _, c := range j.Code {
		about.Methods += int64(c.Methods)
	}
	for _, d := range j.Downloads {
		about.Download = max(about.Download, d.Size)
	}
	for _, p := range j.Parts {
		if p.Path != "" {
			about.Files = append(about.Files, p.Path)
		}
	}
	for _, r := range j.rules.Rule {
		rule, err := condition.CompileRule(r.Holds)
		holds := false
		if err == nil {
			holds, err = rule.Meets(about)
		}
		switch {
		case err != nil: // what cannot be answered is not met
			j.add(r.Name, "Mend the rule in piston/app.toml.", "%v", err)
		case !holds:
			j.add(r.Name, r.Fix, "%s", r.Says)
		}
	}
}
