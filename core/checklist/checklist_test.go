package checklist

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/definition"
)

var today = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

// sound is a package that meets every rule.
func sound() Package {
	return Package{File: "out/tide.apk", Today: today, Name: "1.5.0", Build: "6",
		App: &definition.App{Name: "tide", Android: "net.tide", IOS: "net.tide", Checklist: &definition.AppChecklist{
			Target: 34, Size: "10 MB"}},
		Facts: appfile.Facts{Kind: appfile.APK, Platform: "android", ID: "net.tide", Version: "1.5.0", Build: "6",
			Lowest: "21", Target: "35", Permissions: []appfile.Permission{{Name: "INTERNET"}},
			Processors: []string{"arm64-v8a", "armeabi-v7a"}, Icons: []appfile.Icon{{Width: 192, Height: 192}},
			Programs: []appfile.Program{{Path: "lib/arm64-v8a/a.so", Processor: "arm64-v8a", Page: 16384},
				{Path: "lib/armeabi-v7a/a.so", Processor: "armeabi-v7a", Page: 4096}},
			Signers: []appfile.Signer{{Subject: "CN=Tide", Ends: today.AddDate(20, 0, 0)}}, Schemes: []string{"v1", "v2", "v3"},
			Size: 1_000_000, Parts: []appfile.Part{{Group: "native", Path: "lib/arm64-v8a/a.so", Packed: 1_000_000}}},
		Last: &appfile.Facts{Processors: []string{"arm64-v8a", "armeabi-v7a"}, Size: 900_000,
			Permissions: []appfile.Permission{{Name: "INTERNET"}},
			Parts:       []appfile.Part{{Group: "native", Path: "lib/arm64-v8a/a.so", Packed: 900_000}}}}
}

// apple makes it one of iOS.
func apple(p *Package) {
	p.Kind, p.Platform, p.Programs, p.Last, p.Declared = appfile.IPA, "ios", nil, nil, true
	p.Processors, p.Permissions = []string{"arm64"}, nil
	p.Profile = &appfile.ProfileFacts{Name: "store", Ends: today.AddDate(0, 6, 0)}
}

func rules(list []Breach) (out []string) {
	for _, b := range list {
		out = append(out, b.Rule)
	}
	return out
}

func TestASoundPackageMeetsEveryRule(t *testing.T) {
	assert.Empty(t, Judge(sound()))
	first := sound()
	first.Last = nil
	assert.Empty(t, Judge(first))
	ios := sound()
	ios.Kind, ios.Platform, ios.Programs, ios.Schemes = appfile.IPA, "ios", nil, []string{"seal"}
	ios.Processors, ios.Last, ios.Declared = []string{"arm64"}, nil, true
	ios.Profile = &appfile.ProfileFacts{Name: "store", Ends: today.AddDate(0, 6, 0)}
	assert.Empty(t, Judge(ios))
}

func TestEachRuleFindsWhatIsAgainstIt(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range []struct {
		rule, says string
		change     func(p *Package)
	}{
		{"placeholder-id", "com.example.tide is that of a template", func(p *Package) {
			p.ID, p.App.Android = "com.example.tide", "com.example.tide"
		}},
		{"other-id", "piston/app.toml says net.tide", func(p *Package) { p.ID = "net.other" }},
		{"other-id", "no app of piston/app.toml has the id net.other", func(p *Package) { p.ID, p.App = "net.other", nil }},
		{"other-version", "it says 1.4.0 (6), and the run has raised 1.5.0 (6)", func(p *Package) { p.Version = "1.4.0" }},
		{"other-version", "it says 1.5.0 (5)", func(p *Package) { p.Facts.Build = "5" }},
		{"debuggable", "anybody can debug it", func(p *Package) { p.Debuggable = true }},
		{"debuggable", "for tests only", func(p *Package) { p.TestOnly = true }},
		{"unsigned", "nobody has signed it", func(p *Package) { p.Signers = nil }},
		{"scheme-missing", "level 21, and has no signature v1", func(p *Package) { p.Schemes = []string{"v2", "v3"} }},
		{"scheme-missing", "no signature v3", func(p *Package) { p.Schemes = []string{"v1", "v2"} }},
		{"misplaced", "lib/a.so is not packed", func(p *Package) { p.Misplaced = []string{"lib/a.so"} }},
		{"small-pages", "laid out for pages of 4.1 kB", func(p *Package) { p.Programs[0].Page = 4096 }},
		{"no-64-bit", "armeabi-v7a, and none for arm64-v8a", func(p *Package) {
			p.Processors, p.Last = []string{"armeabi-v7a"}, nil
		}},
		{"processors", "it has no code for armeabi-v7a, of the last one", func(p *Package) { p.Processors = []string{"arm64-v8a"} }},
		{"processors", "code for x86_64, beyond the last one", func(p *Package) {
			p.Processors = append(p.Processors, "x86_64")
		}},
		{"processors", "beyond the agreed processors", func(p *Package) {
			p.App.Checklist.Processors = []string{"arm64-v8a", "arm64"}
		}},
		{"not-split", "the module base does not say", func(p *Package) { p.Unsplit = []string{"base"} }},
		{"no-purpose", "AVCaptureDevice asks for the camera", func(p *Package) {
			apple(p)
			p.Uses, p.Permissions = []string{"AVCaptureDevice", "PHPhotoLibrary"}, []appfile.Permission{
				{Name: "NSPhotoLibraryAddUsageDescription", Purpose: "To keep charts"}, {Name: "NSCameraUsageDescription"}}
		}},
		{"encryption-undeclared", "encryption", func(p *Package) {
			apple(p)
			p.Declared = false
		}},
		{"secret-inside", "assets/a.pem has a private key inside", func(p *Package) {
			p.App.Checklist.MayHold = []string{"**/services.json"}
			p.Inside = []appfile.Inside{{Kind: "secret", Path: "assets/a.pem", What: "a private key"},
				{Kind: "secret", Path: "base/assets/services.json", What: "a value"}}
		}},
		{"test-code", "org.junit", func(p *Package) {
			p.Inside = []appfile.Inside{{Kind: "test-code", Path: "classes.dex", What: "org.junit"}}
		}},
		{"source-map", "app.js.map", func(p *Package) {
			p.Inside = []appfile.Inside{{Kind: "source-map", Path: "assets/app.js.map", What: "app.js.map"}}
		}},
		{"own-address", "http://10.0.2.2", func(p *Package) {
			p.App.Checklist.Hosts = []string{"*.local"}
			p.Inside = []appfile.Inside{{Kind: "address", Path: "assets/a", What: "http://10.0.2.2"},
				{Kind: "address", Path: "assets/a", What: "http://gauge.local"}}
		}},
		{"no-icon", "its largest icon has 72 pixels", func(p *Package) { p.Icons[0].Width = 72 }},
		{"symbols-missing", "for lib/armeabi-v7a/a.so", func(p *Package) {
			p.Symbols = []appfile.Symbols{{Kind: "library", Of: []string{"lib/arm64-v8a/a.so"}}}
		}},
		{"low-target", "made for level 33 of Android, and 34 is the least", func(p *Package) { p.Target = "33" }},
		{"permission-added", "more than what the last one could: CAMERA", func(p *Package) {
			p.Permissions = append(p.Permissions, appfile.Permission{Name: "CAMERA"})
		}},
		{"permission-added", "more than agreed in piston/app.toml: INTERNET", func(p *Package) {
			p.App.Checklist.Permissions = []string{}
		}},
		{"cleartext", "unencrypted", func(p *Package) { p.Cleartext = true }},
		{"no-icon", "no icon", func(p *Package) { p.Icons = nil }},
		{"no-profile", "no provisioning profile", func(p *Package) {
			apple(p)
			p.Profile = nil
		}},
		{"ends-soon", "CN=Tide is good until 2026-12-06 only", func(p *Package) { p.Signers[0].Ends = today.AddDate(0, 0, 10) }},
		{"ends-soon", `the profile "store" is good until 2026-11-30`, func(p *Package) {
			apple(p)
			p.Profile.Ends = today.AddDate(0, 0, 4)
		}},
		{"too-large", "it has 11.0 MB, at most 10.0 MB", func(p *Package) { p.Size, p.Last = 11_000_000, nil }},
		{"grown", "by 50 per cent, from 900.0 kB to 1.4 MB; 20 per cent are allowed, most of it native", func(p *Package) {
			p.Size, p.Parts[0].Packed = 1_350_000, 1_350_000
		}},
	} {
		p := sound()
		c.change(&p)
		found := Judge(p)
		if assert.Equal(t, []string{c.rule}, rules(found), c.says) {
			assert.Contains(t, found[0].Message, c.says)
			assert.NotEmpty(t, found[0].Fix)
			assert.Equal(t, c.rule != "not-split", Failed(found), "advice fails nothing")
		}
		seen[c.rule] = true
	}
	for _, rule := range definition.ListRules {
		assert.True(t, seen[rule.Name], "%s is tried", rule.Name)
	}
}

func TestWhatIsAcceptedPassesUntilItsDay(t *testing.T) {
	p := sound()
	p.Size = 5_000_000
	p.App.Checklist.Accept = []definition.Acceptance{{Rule: "grown", Reason: "charts", Until: "2026-11-26"}}
	found := Judge(p)
	assert.Equal(t, "charts", found[0].Accepted)
	assert.False(t, Failed(found))
	p.Today = p.Today.AddDate(0, 0, 1)
	assert.True(t, Failed(Judge(p)), "the day after it is over")
}

func TestOwnRulesAreHeldToo(t *testing.T) {
	p := sound()
	p.Parts = append(p.Parts, appfile.Part{Group: "assets", Path: "assets/app.js.map"})
	p.Code = []appfile.Code{{Methods: 40_000}, {Methods: 30_000}}
	p.Downloads = []appfile.Download{{Size: 3000}, {Size: 2000}}
	p.Domains = []appfile.Domain{{Name: "gauge.tidewick.example"}}
	p.App.Checklist.Rule = []definition.OwnRule{
		{Name: "small", Holds: "size < 30000000 && last_size > 0", Says: "it is not small"},
		{Name: "no-maps", Holds: `!files.within("**/*.map")`, Says: "source maps are inside", Fix: "Leave them out."},
		{Name: "internet-only", Holds: `permissions.all(p, p == "INTERNET")`, Says: "it may do more"},
		{Name: "few-methods", Holds: "methods < 65536 && download < 4000", Says: "many methods"},
		{Name: "own-domains", Holds: `domains.all(d, d.endsWith(".tidewick.example")) && !("secret" in inside)`, Says: "others"},
		{Name: "asks", Holds: `entitlements["aps-environment"] == "production"`, Says: "no push"},
	}
	found := Judge(p)
	assert.Equal(t, []string{"no-maps", "few-methods", "asks"}, rules(found))
	assert.Equal(t, "source maps are inside", found[0].Message)
	assert.Contains(t, found[2].Message, "cannot be answered", "a rule that fails is not met")
	p.App.Checklist.Accept = []definition.Acceptance{{Rule: "no-maps", Reason: "for a week", Until: "2026-12-01"}}
	assert.Equal(t, "for a week", Judge(p)[0].Accepted)
}
