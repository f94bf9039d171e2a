package version

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// The ways to raise besides by a size.
const (
	ByBuild   = "build"   // the build number only
	ByTag     = "tag"     // the name in the run's tag
	ByCommits = "commits" // what commits since the last release say
	ByDate    = "date"    // year, month and a counter
)

// Ways lists all that a raise may go by.
var Ways = []string{string(Major), string(Minor), string(Patch), string(Pre), ByBuild, ByTag, ByCommits, ByDate}

// Wish is how a version is to be raised.
type Wish struct {
	By  string // one of Ways; "" when To says the name
	Pre string // the kind of pre-release it is to be, such as rc
	To  string // the name itself
}

// Known is what a wish is fulfilled from.
type Known struct {
	Now     Parts    // the highest name that stands in files or was handed out
	Tag     string   // the run's
	Changes []Change // since the last release; nil when they are not known
	Today   time.Time
}

// Complaint tells what is wrong with a wish; "" when nothing is.
func (w Wish) Complaint() string {
	switch {
	case w.By == "" && w.To == "":
		return "it says neither by what nor to what"
	case w.By != "" && w.To != "":
		return "it says both by what and to what; one is enough"
	case w.By != "" && !slices.Contains(Ways, w.By):
		return fmt.Sprintf("%.40q is no way to raise; there are %s", w.By, strings.Join(Ways, ", "))
	case w.Pre != "" && (!preForm.MatchString(w.Pre) || len(w.Pre) > 20):
		return fmt.Sprintf("%.40q is no kind of pre-release; use a word of letters, such as rc", w.Pre)
	case w.Pre != "" && (w.To != "" || slices.Contains([]string{ByBuild, ByTag, ByDate}, w.By)):
		return "a kind of pre-release says nothing here"
	}
	return ""
}

// Exact tells that the wish is for one name and no other, which cannot be chosen anew when it is taken.
func (w Wish) Exact() bool { return w.To != "" || w.By == ByTag }

// Name gives the name that is wished for, and why it is this one. It is k.Now for a wish for the build number only.
func (w Wish) Name(k Known) (next Parts, why string, err error) {
	if wrong := w.Complaint(); wrong != "" {
		return Parts{}, "", fmt.Errorf("%s", wrong)
	}
	switch {
	case w.To != "":
		next, err = Parse(w.To)
		return next, "as was asked for", err
	case w.By == ByTag:
		if k.Tag == "" {
			return Parts{}, "", fmt.Errorf("it is to be named by its tag, and was started by none")
		}
		next, err = OfTag(k.Tag)
		return next, "by the tag " + k.Tag, err
	case w.By == ByDate:
		return k.Now.ByDate(k.Today), "by the date", nil
	case len(k.Now.Numbers) == 0:
		return Parts{}, "", fmt.Errorf("%w stands anywhere, so that none follows it; say to = \"1.0.0\" once", ErrNoName)
	case w.By == ByBuild:
		return k.Now, "the build number only", nil
	case w.By == ByCommits:
		by, because := SizeOf(k.Now, k.Changes)
		next, err = k.Now.Raise(by, w.Pre)
		return next, fmt.Sprintf("%s, since %s", by, because), err
	}
	next, err = k.Now.Raise(Size(w.By), w.Pre)
	return next, strings.TrimSpace(w.By + " " + w.Pre), err
}
