package shop

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentlepiston.example/piston/core/outletapi"
)

// rules are those by which a shop takes something.
type rules interface {
	about() outletapi.About
	// form lists what the page of an app asks for.
	form() []field
	// missing lists what is against an offer, beside what every shop has against it.
	missing(s *Shop, a *app, o outletapi.Offer) []outletapi.Missing
}

// field is something that a page asks for.
type field struct {
	Key, Label string
	Least      int  // of a number; 0 a text
	Spare      bool // it may be left out
}

func (f field) lacks(value string) bool {
	if f.Spare {
		return false
	}
	if f.Least == 0 {
		return strings.TrimSpace(value) == ""
	}
	n, err := strconv.Atoi(value)
	return err != nil || n < f.Least
}

func missing(mend, what string, args ...any) outletapi.Missing {
	return outletapi.Missing{What: fmt.Sprintf(what, args...), Mend: mend}
}

// about is what a shop says of itself.
func (s *Shop) about() outletapi.About {
	about := s.rules.about()
	about.Name = cmp.Or(s.Name, about.Name)
	if len(s.Takes) > 0 {
		about.Takes = s.Takes
	}
	return about
}

// check lists everything that is against an offer.
func (s *Shop) check(o outletapi.Offer) (list []outletapi.Missing) {
	about := s.about()
	if !slices.Contains(about.Channels, o.Channel) {
		list = append(list, missing("Choose one of "+strings.Join(about.Channels, ", ")+".",
			"there is no channel %.60q", o.Channel))
	}
	for _, p := range o.Packages {
		if !slices.Contains(about.Takes, p.Kind) {
			list = append(list, missing("Bring "+strings.Join(about.Takes, " or ")+".", "%s is of the kind %.20q, which is not "+
				"taken here", p.File, p.Kind))
		}
	}
	a := s.kept.Apps[o.App]
	if a == nil {
		a = &app{}
		list = append(list, missing("Make it by hand once, at "+s.base+"/.", "there is no entry for %.200q yet", o.App))
	}
	var lacks []string
	for _, f := range s.rules.form() {
		if f.lacks(a.Form[f.Key]) {
			lacks = append(lacks, f.Label)
		}
	}
	if len(lacks) > 0 {
		list = append(list, missing("Fill them in at "+s.base+"/.", "the entry lacks %s", strings.Join(lacks, ", ")))
	}
	if draft := s.inTheWay(o); draft != "" {
		list = append(list, missing("Bring it to an end first, or take it away at "+s.base+"/.", "%s", draft))
	}
	return append(list, s.rules.missing(s, a, o)...)
}

// inTheWay tells what is in the way of anything new in an app's channel.
func (s *Shop) inTheWay(o outletapi.Offer) string {
	if a := s.kept.Apps[o.App]; a != nil && a.Drafts[o.Channel] != "" {
		return "a draft of " + a.Drafts[o.Channel] + " that somebody has begun by hand stands in channel " + o.Channel
	}
	for _, other := range s.kept.Offers {
		if other.Offer.App == o.App && other.Offer.Channel == o.Channel && underWay(other.State) {
			return fmt.Sprintf("%s is on its way into channel %s", other.Offer.Version, o.Channel)
		}
	}
	return ""
}

// machine are the rules of a shop where a machine looks at what is brought.
type machine struct{ target int }

func (machine) about() outletapi.About {
	return outletapi.About{Protocol: outletapi.Version, Name: "Quayside, a stand-in", StandIn: true,
		Takes: []string{"app-bundle", "apk"}, Channels: []string{"inner", "early", "release"}, Shares: true}
}

func (machine) form() []field {
	return []field{{Key: "policy", Label: "the address of its policy on data"},
		{Key: "countries", Label: "the countries it is for"}, {Key: "age", Label: "the age it is for"},
		{Key: "pictures", Label: "two pictures of it", Least: 2}}
}

func (m machine) missing(_ *Shop, a *app, o outletapi.Offer) (list []outletapi.Missing) {
	for _, p := range o.Packages {
		if n, err := strconv.ParseInt(p.Build, 10, 64); err != nil || n <= a.Last {
			list = append(list, missing("Raise the build number.", "%s has the build number %.40s, and %d was taken before",
				p.File, p.Build, a.Last))
		}
		if n, err := strconv.Atoi(p.Target); err != nil || n < m.target {
			list = append(list, missing(fmt.Sprintf("Build it for %d.", m.target),
				"%s is made for level %.20s, and %d is the lowest", p.File, p.Target, m.target))
		}
		if len(p.Processors) > 0 && !slices.ContainsFunc(p.Processors, func(name string) bool {
			return strings.Contains(name, "64")
		}) {
			list = append(list, missing("Build its libraries for 64 bits, too.", "%s has native code for %s only", p.File,
				strings.Join(p.Processors, ", ")))
		}
		if a.Signer != "" && !slices.Contains(p.Signers, a.Signer) {
			list = append(list, missing("Sign it with the key of last time, "+a.Signer[:16]+"….",
				"%s is not signed by who signed what came before", p.File))
		}
	}
	return list
}

// people are the rules of a shop where people look at what is brought.
type people struct{}

func (people) about() outletapi.About {
	return outletapi.About{Protocol: outletapi.Version, Name: "Lantern Hall, a stand-in", StandIn: true,
		Takes: []string{"ipa"}, Channels: []string{"release"}, Shares: true}
}

func (people) form() []field {
	return []field{{Key: "support", Label: "an address for support"}, {Key: "category", Label: "what it is about"},
		{Key: "pictures", Label: "three pictures of it", Least: 3},
		{Key: "new", Label: "what is new, where a release does not say it", Spare: true}}
}

func (people) missing(s *Shop, a *app, o outletapi.Offer) (list []outletapi.Missing) {
	if len(o.Notes) == 0 && a.Form["new"] == "" {
		list = append(list, missing("Write what is new, in at least one language, or say it once at "+s.base+"/.",
			"it does not say what is new"))
	}
	for _, other := range s.kept.Offers {
		if other.Offer.App != a.ID || other.State == outletapi.Awaited {
			continue
		}
		if other.Offer.Version == o.Version && other.State != outletapi.Refused && other.State != outletapi.Withdrawn {
			list = append(list, missing("Raise the version.", "version %s is used already", o.Version))
		}
		for _, p := range o.Packages {
			if slices.ContainsFunc(other.Offer.Packages, func(q outletapi.Package) bool { return q.Build == p.Build }) {
				list = append(list, missing("Raise the build number.", "build number %.40s is used already", p.Build))
			}
		}
	}
	return list
}
