package appfile

import (
	"bytes"
	"cmp"
	"fmt"
	"image"
	"path"
	"slices"
	"strings"

	"howett.net/plist"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/sign/macho"
)

// list is what an app's property list says that is told.
type list struct {
	ID         string `plist:"CFBundleIdentifier"`
	Executable string `plist:"CFBundleExecutable"`
	Name       string `plist:"CFBundleName"`
	Display    string `plist:"CFBundleDisplayName"`
	Version    string `plist:"CFBundleShortVersionString"`
	Build      string `plist:"CFBundleVersion"`
	Lowest     string `plist:"MinimumOSVersion"`
	Target     string `plist:"DTPlatformVersion"`
	Transport  struct {
		Arbitrary bool                 `plist:"NSAllowsArbitraryLoads"`
		Except    map[string]exception `plist:"NSExceptionDomains"`
	} `plist:"NSAppTransportSecurity"`
}

const embedded = "embedded.mobileprovision"

// readIPA reads what an app of iOS says.
func (p *Package) readIPA() error {
	p.Platform, p.root = "ios", appOf(p.Archive)
	info, all, err := p.list(p.root)
	if err != nil {
		return err
	}
	p.ID, p.Version, p.Build = info.ID, info.Version, info.Build
	p.Label = cmp.Or(info.Display, info.Name)
	p.Lowest, p.Target, p.Cleartext = info.Lowest, info.Target, info.Transport.Arbitrary
	p.exceptions(info.Transport.Except)
	_, p.Declared = all["ITSAppUsesNonExemptEncryption"]
	for key, value := range all {
		if strings.HasSuffix(key, purposeDescription) {
			p.Permissions = append(p.Permissions, Permission{Name: key, Purpose: fmt.Sprint(value)})
		}
	}
	slices.SortFunc(p.Permissions, func(a, b Permission) int { return strings.Compare(a.Name, b.Name) })
	for _, e := range p.Entries() {
		if err := p.look(e, path.Join(p.root, info.Executable)); err != nil {
			return err
		}
	}
	slices.Sort(p.Languages)
	if e := p.Find(path.Join(p.root, embedded)); e != nil {
		text, err := p.Read(e, maxManifest)
		if err != nil {
			return err
		}
		if d, err := profile.ReadAll(text); err == nil {
			p.Profile = &ProfileFacts{d.Name, d.App, d.Team, d.Ends, len(d.Devices), d.Devices}
		}
	}
	return nil
}

// list reads the property list of a folder.
func (p *Package) list(dir string) (info list, all map[string]any, err error) {
	name := path.Join(dir, "Info.plist")
	e := p.Find(name)
	if e == nil {
		return info, nil, wrong("%s is not there", name)
	}
	text, err := p.Read(e, maxManifest)
	if err != nil {
		return info, nil, err
	}
	if _, err = plist.Unmarshal(text, &info); err == nil {
		_, err = plist.Unmarshal(text, &all)
	}
	if err != nil || info.ID == "" {
		return info, nil, wrong("%s cannot be read, or names no app", name)
	}
	return info, all, nil
}

// look takes note of an entry: a program, a language, an icon.
func (p *Package) look(e *archive.Entry, main string) error {
	in := strings.TrimPrefix(e.Name, p.root+"/")
	first, _, _ := strings.Cut(in, "/")
	if language, is := strings.CutSuffix(first, ".lproj"); is && language != "Base" {
		if !slices.Contains(p.Languages, language) {
			p.Languages = append(p.Languages, language)
		}
	}
	if !strings.Contains(in, "/") && strings.HasPrefix(in, "AppIcon") && path.Ext(in) == ".png" &&
		len(p.Icons) < maxIcons {
		b, err := p.beginning(e, maxIcon)
		if err != nil {
			return err
		}
		icon := Icon{Path: e.Name}
		if c, _, err := image.DecodeConfig(bytes.NewReader(b)); err == nil {
			icon.Width, icon.Height = c.Width, c.Height
		}
		p.Icons = append(p.Icons, icon)
	}
	if e.Folder() || e.Size < 32 {
		return nil
	}
	b, err := p.beginning(e, 8)
	if err != nil || !macho.IsProgram(b) {
		return err
	}
	return p.program(e, main)
}

// program reads the head of native code, and of the main program's signature what it asks for.
func (p *Package) program(e *archive.Entry, main string) error {
	about, err := macho.Look(p.Content(e), e.Size, e.Name == main)
	if err != nil {
		return wrong("%s: %v", e.Name, err)
	}
	kind := "library"
	switch in := path.Dir(e.Name); {
	case e.Name == main:
		kind = "app"
		p.Entitlements, p.Debuggable = about.Entitlements, about.Entitlements["get-task-allow"] == true
		if about.Signer != nil {
			p.Signers, p.Schemes = append(p.Signers, signerOf(about.Signer)), append(p.Schemes, "seal")
		}
	case path.Ext(in) == ".framework":
		kind = "framework"
	case path.Ext(in) == ".appex" || path.Ext(in) == ".app":
		kind = "extension"
	}
	for _, s := range about.Slices {
		if !slices.Contains(p.Processors, s.Processor) {
			p.Processors = append(p.Processors, s.Processor)
		}
		p.Programs = append(p.Programs, Program{Path: e.Name, Kind: kind, Processor: s.Processor, BuildID: s.UUID,
			Size: s.Size})
	}
	return nil
}
