package bundle

import (
	"bytes"
	"context"
	"crypto/sha256"
	"io"
	"io/fs"
	"os"
	"path"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"howett.net/plist"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/sign"
	"gentlepiston.example/piston/core/sign/macho"
)

var now = time.Unix(1_750_000_000, 0)

// shelf is an app in memory.
type shelf struct{ fstest.MapFS }

func (s shelf) Write(name string, mode fs.FileMode, content func(io.Writer) error) error {
	var b bytes.Buffer
	if err := content(&b); err != nil {
		return err
	}
	if old := s.MapFS[name]; old != nil && mode == 0 {
		mode = old.Mode
	}
	s.MapFS[name] = &fstest.MapFile{Data: b.Bytes(), Mode: mode}
	return nil
}

// binary is a real program of iOS, signed by somebody.
func binary(t *testing.T) []byte {
	f, err := os.Open("../../appfile/testdata/Tidewick.ipa")
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	a, err := archive.Open(f, info.Size())
	require.NoError(t, err)
	b, err := a.Read(a.Find("Payload/Tidewick.app/Tidewick"), 1<<20)
	require.NoError(t, err)
	return b
}

func info(t *testing.T, id, executable string) []byte {
	b, err := plist.Marshal(map[string]string{"CFBundleIdentifier": id, "CFBundleExecutable": executable}, plist.XMLFormat)
	require.NoError(t, err)
	return b
}

// app has a framework, a library in it, and an extension with a framework of its own.
func app(t *testing.T) shelf {
	program := &fstest.MapFile{Data: binary(t), Mode: 0o755}
	text := func(b []byte) *fstest.MapFile { return &fstest.MapFile{Data: b, Mode: 0o644} }
	return shelf{fstest.MapFS{
		"Info.plist":                               text(info(t, "net.tidewick.almanac", "Tidewick")),
		"Tidewick":                                 program,
		"en.lproj/Main.strings":                    text([]byte("tide")),
		"Frameworks/Moon.framework/Info.plist":     text(info(t, "net.tidewick.moon", "Moon")),
		"Frameworks/Moon.framework/Moon":           program,
		"Frameworks/libsun.dylib":                  program,
		"PlugIns/Widget.appex/Info.plist":          text(info(t, "net.tidewick.almanac.widget", "Widget")),
		"PlugIns/Widget.appex/Widget":              program,
		"_CodeSignature/CodeResources":             text([]byte("of before")),
		"PlugIns/Widget.appex/.DS_Store":           text([]byte("litter")),
		"Frameworks/Moon.framework/en.lproj/a.txt": text([]byte("a")),
	}}
}

func signer(t *testing.T) sign.Signer {
	s, err := identity.Make(identity.P256, "Tidewick", 30, now)
	require.NoError(t, err)
	return s
}

func profileFor(s sign.Signer, id string) *Profile {
	return &Profile{&profile.Details{Profile: profile.Profile{App: id, Ends: now.AddDate(1, 0, 0)}, Name: "for " + id,
		Team: "TEAMTIDE01", Certificates: s.Chain, Entitlements: map[string]any{
			"application-identifier": "TEAMTIDE01." + id, "get-task-allow": false}}, []byte("profile of " + id)}
}

func TestProgramsAreSignedInsideOut(t *testing.T) {
	s, a := signer(t), app(t)
	out, err := Sign(context.Background(), a, Options{Signer: s, Now: now,
		Profiles: []*Profile{profileFor(s, "net.tidewick.almanac.widget"), profileFor(s, "net.tidewick.almanac")}})
	require.NoError(t, err)
	var order []string
	for _, one := range out {
		order = append(order, one.Path)
	}
	assert.Equal(t, []string{"Frameworks/libsun.dylib", "Frameworks/Moon.framework", "PlugIns/Widget.appex", ""}, order)
	assert.Equal(t, "for net.tidewick.almanac.widget", out[2].Profile)
	assert.Equal(t, "profile of net.tidewick.almanac.widget", string(a.MapFS["PlugIns/Widget.appex/"+embedded].Data))

	var seal struct {
		Files2 map[string]struct {
			Hash2    []byte `plist:"hash2"`
			Optional bool   `plist:"optional"`
		} `plist:"files2"`
	}
	_, err = plist.Unmarshal(a.MapFS[sealFile].Data, &seal)
	require.NoError(t, err)
	sealed := 0
	for name, file := range a.MapFS {
		one, there := seal.Files2[name]
		if name == "Tidewick" || name == "Info.plist" || name == sealFile || path.Base(name) == ".DS_Store" {
			assert.False(t, there, name)
			continue
		}
		sum := sha256.Sum256(file.Data)
		assert.Equal(t, sum[:], one.Hash2, "%s is sealed as it is when all inside is signed", name)
		sealed++
	}
	assert.Len(t, seal.Files2, sealed)
	assert.True(t, seal.Files2["en.lproj/Main.strings"].Optional)

	seen, err := macho.Look(io.NopCloser(bytes.NewReader(a.MapFS["Tidewick"].Data)), int64(len(a.MapFS["Tidewick"].Data)),
		true)
	require.NoError(t, err)
	assert.Equal(t, s.Leaf().Raw, seen.Signer.Raw)
	assert.Equal(t, "TEAMTIDE01.net.tidewick.almanac", seen.Entitlements["application-identifier"])
	assert.EqualValues(t, 0o755, a.MapFS["Tidewick"].Mode)
}

func TestAnAppThatItsProfileDoesNotFitIsRefused(t *testing.T) {
	s := signer(t)
	fit := profileFor(s, "net.tidewick.*")
	change := func(do func(d *profile.Details)) []*Profile {
		d := *fit.Details
		do(&d)
		return []*Profile{{&d, fit.Raw}}
	}
	for says, c := range map[string]struct {
		profiles []*Profile
		asks     map[string]any
	}{
		"is for com.other":                    {change(func(d *profile.Details) { d.App = "com.other" }), nil},
		"has expired on":                      {change(func(d *profile.Details) { d.Ends = now.AddDate(0, 0, -1) }), nil},
		"is for other certificates":           {change(func(d *profile.Details) { d.Certificates = signer(t).Chain }), nil},
		"none of the 0 provisioning profiles": {nil, nil},
		"does not grant":                      {[]*Profile{fit}, map[string]any{"aps-environment": "production"}},
		"asks for get-task-allow = true":      {[]*Profile{fit}, map[string]any{"get-task-allow": true}},
	} {
		o := Options{Signer: s, Now: now, Profiles: c.profiles}
		if c.asks != nil {
			o.Entitlements = map[string]map[string]any{"net.tidewick.almanac": c.asks}
		}
		_, err := Sign(context.Background(), app(t), o)
		assert.ErrorContains(t, err, says)
	}
}

func TestAProgramAsksForWhatItsDeveloperHasWritten(t *testing.T) {
	s := signer(t)
	fit := profileFor(s, "net.tidewick.*")
	fit.Entitlements["keychain-access-groups"] = []any{"TEAMTIDE01.*"}
	fit.Entitlements["com.apple.developer.associated-domains"] = "*"
	fit.Entitlements["aps-environment"] = "production"
	written, err := profile.ReadEntitlements([]byte(`<plist version="1.0"><dict><key>keychain-access-groups</key><array>
		<string>$(AppIdentifierPrefix)$(CFBundleIdentifier)</string></array></dict></plist>`))
	require.NoError(t, err)
	a := app(t)
	o := Options{Signer: s, Now: now, Profiles: []*Profile{fit},
		Entitlements: map[string]map[string]any{"net.tidewick.almanac": written}}
	_, err = Sign(context.Background(), a, o)
	require.NoError(t, err)
	asks := func(name string) map[string]any {
		seen, err := macho.Look(io.NopCloser(bytes.NewReader(a.MapFS[name].Data)), int64(len(a.MapFS[name].Data)), true)
		require.NoError(t, err)
		return seen.Entitlements
	}
	assert.Equal(t, map[string]any{"application-identifier": "TEAMTIDE01.net.tidewick.almanac", "get-task-allow": false,
		"keychain-access-groups": []any{"TEAMTIDE01.net.tidewick.almanac"}}, asks("Tidewick"), "no more than it asks for")
	o.Entitlements = map[string]map[string]any{"net.tidewick.almanach": written}
	_, err = Sign(context.Background(), app(t), o)
	assert.ErrorContains(t, err, `"net.tidewick.almanach", and no program with that id`)
	for says, value := range map[string]any{"$(TEAM) stands for nothing": []any{"$(TEAM).x"},
		"the profile \"for net.tidewick.*\" grants": []any{"OTHER.x"}} {
		o.Entitlements = map[string]map[string]any{"net.tidewick.almanac": {"keychain-access-groups": value}}
		_, err = Sign(context.Background(), app(t), o)
		assert.ErrorContains(t, err, says)
	}
	for _, text := range []string{"", " ", "<plist", "<plist><array/></plist>", "\x00\xff"} {
		_, err := profile.ReadEntitlements([]byte(text))
		assert.Error(t, err, text)
	}
}

func TestAFolderThatIsNoAppIsRefused(t *testing.T) {
	s := signer(t)
	for says, change := range map[string]func(a shelf){
		"the app has no Info.plist": func(a shelf) { delete(a.MapFS, "Info.plist") },
		"Info.plist is no file":     func(a shelf) { a.MapFS["Info.plist"].Mode = fs.ModeNamedPipe },
		"cannot be read":            func(a shelf) { a.MapFS["Info.plist"].Data = []byte("{{{") },
		"in its folder":             func(a shelf) { a.MapFS["Info.plist"].Data = info(t, "a.b", "../../etc/passwd") },
		"Tidewick cannot be read":   func(a shelf) { delete(a.MapFS, "Tidewick") },
		"none of Apple's":           func(a shelf) { a.MapFS["Tidewick"] = &fstest.MapFile{Data: []byte("#!/bin/sh -e")} },
		"holds files and folders":   func(a shelf) { a.MapFS["link"] = &fstest.MapFile{Mode: fs.ModeSymlink, Data: []byte("x")} },
	} {
		a := app(t)
		change(a)
		_, err := Sign(context.Background(), a, Options{Signer: s, Now: now,
			Profiles: []*Profile{profileFor(s, "net.tidewick.*")}})
		assert.ErrorContains(t, err, says)
	}
}

func TestTheSameAppIsPackedTheSame(t *testing.T) {
	var one, two bytes.Buffer
	a := app(t)
	require.NoError(t, Pack(a, "Tidewick.app", &one))
	require.NoError(t, Pack(a, "Tidewick.app", &two))
	assert.True(t, bytes.Equal(one.Bytes(), two.Bytes()))
	r, err := archive.Open(bytes.NewReader(one.Bytes()), int64(one.Len()))
	require.NoError(t, err)
	assert.True(t, r.Find("Payload/Tidewick.app/Tidewick").Executable())
	assert.False(t, r.Find("Payload/Tidewick.app/Info.plist").Executable())
}
