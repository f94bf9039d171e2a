package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/quantity"
)

func showPackage(s *terminal.Screen, p inspected, most int) {
	s.Line("%s  %s %s (%s)  %s", s.In(terminal.Strong, p.Label), p.ID, p.Version, p.Build,
		s.In(terminal.Faint, string(p.Kind)+", "+quantity.Bytes(p.Size)))
	say := func(what, text string) {
		if text != "" {
			s.Line("  %-13s%s", what, text)
		}
	}
	system := fmt.Sprintf("%s %s and later", p.Platform, p.Lowest)
	if p.Target != "" {
		system += ", made for " + p.Target
	}
	say("system", system)
	say("processors", strings.Join(p.Processors, ", "))
	showPermissions(s, say, p.Permissions)
	say("languages", strings.Join(p.Languages, ", "))
	var icons []string
	for _, i := range p.Icons {
		icons = append(icons, fmt.Sprintf("%d×%d", i.Width, i.Height))
	}
	say("icons", strings.Join(icons, ", "))
	showCode(say, p.Facts)
	showSigners(s, say, p.Facts)
	var bad []string
	for wrong, is := range map[string]bool{"may be debugged": p.Debuggable, "is for tests only": p.TestOnly,
		"may speak unencrypted": p.Cleartext} {
		if is {
			bad = append(bad, s.In(terminal.Red, wrong))
		}
	}
	slices.Sort(bad)
	say("beware", strings.Join(bad, ", "))
	showInside(s, say, p.Facts)
	if p.Since == nil {
		showParts(s, p.Facts, most)
		return
	}
	showGrowth(s, *p.Since, p.Size)
}

func showSigners(s *terminal.Screen, say func(what, text string), p appfile.Facts) {
	if len(p.Signers) == 0 {
		say("signed", s.In(terminal.Red, "by nobody"))
	}
	for _, signer := range p.Signers {
		say("signed", fmt.Sprintf("by %s (%s, until %s), %s", signer.Subject, signer.Key,
			signer.Ends.Format(time.DateOnly), strings.Join(p.Schemes, " ")))
		say("", s.In(terminal.Faint, "SHA-256 "+signer.Fingerprints.SHA256))
	}
	if f := p.Profile; f != nil {
		say("profile", fmt.Sprintf("%s, for %s of %s, until %s", f.Name, f.App, f.Team, f.Ends.Format(time.DateOnly)))
	}
}

// maxTold is how many of a kind are told one by one.
const maxTold = 12

func showPermissions(s *terminal.Screen, say func(what, text string), list []appfile.Permission) {
	for i, p := range list {
		what := map[bool]string{true: "may"}[i == 0]
		if i == maxTold {
			say(what, fmt.Sprintf("and %d more", len(list)-i))
			break
		}
		name := strings.TrimPrefix(p.Name, "android.permission.")
		switch {
		case p.Purpose != "":
			name += ": " + terminal.Short(p.Purpose, 60)
		case p.Means != "":
			name += s.In(terminal.Faint, "  "+p.Means)
		}
		say(what, name)
	}
}

// showCode tells what the app is built of, and what devices load of it.
func showCode(say func(what, text string), p appfile.Facts) {
	classes, methods := 0, 0
	for _, c := range p.Code {
		classes, methods = classes+c.Classes, methods+c.Methods
	}
	if len(p.Code) > 0 {
		say("code", fmt.Sprintf("files: %d, classes: %d, methods named: %d", len(p.Code), classes, methods))
	}
	var domains []string
	for _, d := range p.Domains {
		name := map[bool]string{true: "*."}[d.Below] + d.Name
		if d.Cleartext {
			name += " (may be unencrypted)"
		}
		domains = append(domains, name)
	}
	say("domains", strings.Join(domains[:min(len(domains), maxTold)], ", "))
	if p.Kind == appfile.Bundle {
		say("devices load", "about "+strings.Join(loads(p.Downloads), ", "))
	}
}

// loads tells for each processor from how much to how much is loaded, by the screens.
func loads(list []appfile.Download) (out []string) {
	var last string
	var from int64
	for i, d := range list {
		if i == 0 || d.Processor != last {
			last, from = d.Processor, d.Size
		}
		if i+1 < len(list) && list[i+1].Processor == last {
			continue
		}
		size := quantity.Bytes(from)
		if d.Size != from {
			size += " to " + quantity.Bytes(d.Size)
		}
		out = append(out, strings.TrimSpace(d.Processor+" "+size))
	}
	return out
}

// showInside tells what is in a package that should not be, or not there.
func showInside(s *terminal.Screen, say func(what, text string), p appfile.Facts) {
	if len(p.Misplaced) > 0 {
		say("misplaced", s.In(terminal.Red, fmt.Sprintf("%d stored files do not lie where devices map them, such as %s",
			len(p.Misplaced), p.Misplaced[0])))
	}
	for _, m := range p.Unsplit {
		say("not split", s.In(terminal.Red, "the module "+m+" does not say which libraries are for which processor: "+
			"every device loads all"))
	}
	for i, in := range p.Inside {
		if i == maxTold {
			say("", fmt.Sprintf("and %d more", len(p.Inside)-i))
			break
		}
		say(map[bool]string{true: "inside"}[i == 0], s.In(terminal.Red, in.Kind+": "+terminal.Short(in.What, 60))+
			s.In(terminal.Faint, "  "+terminal.Short(in.Path, 60)))
	}
	if len(p.Uses) > 0 {
		say("asks by", strings.Join(p.Uses, ", "))
	}
	if len(p.Symbols) > 0 {
		without := p.Unreadable()
		say("symbols", fmt.Sprintf("files: %d; programs without: %d", len(p.Symbols), len(without)))
		for _, name := range without[:min(len(without), maxTold)] {
			say("", s.In(terminal.Red, name))
		}
	}
}
