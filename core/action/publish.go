package action

import (
	"regexp"
	"strings"

	"gentlepiston.example/piston/core/quantity"
)

const publishAbout = "Brings what the run has released to an outlet: a place of the project to which releases go " +
	"(`piston outlet`). The service does it, resumes after any crash where it was, and does it once. The step waits " +
	"for what `until` says, and holds no machine meanwhile."

// Publish brings a release to an outlet.
type Publish struct {
	// Which app's release. Default: the only one that the run has made.
	App string `toml:"app" json:"app,omitempty"`
	// The outlet.
	//
	//	publish = { to = "harbour-store" }
	To string `toml:"to" json:"to"`
	// A line of the outlet: who gets it. Default: release.
	//
	//	publish = { to = "harbour-store", channel = "early" }
	Channel string `toml:"channel" json:"channel,omitempty"`
	// To how many of a hundred people it goes at first, where the outlet allows that. Default: all.
	//
	//	publish = { to = "harbour-store", share = 10 }
	Share int `toml:"share" json:"share,omitempty"`
	// How the share is raised by itself, each step some time after the one before it. It stops when somebody halts it.
	//
	//	publish = { to = "harbour-store", share = 10, raise = ["50% after 1d", "100% after 2d"] }
	Raise []string `toml:"raise" json:"raise,omitempty"`
	// What those who get it should look at. Testers are told, in the mail and on their page.
	//
	//	publish = { to = "testers", channel = "friends", note = "Are the springs right?" }
	Note string `toml:"note" json:"note,omitempty"`
	// Keep it at the outlet until somebody sets a share (`piston publication share`), also when it may go out.
	//
	//	publish = { to = "harbour-store", hold = true, until = "accepted" }
	Hold bool `toml:"hold" json:"hold,omitempty"`
	// What the step waits for: "sent", until the outlet has it; "accepted", until it may be given out; "out" (the
	// default), until people get it.
	//
	//	publish = { to = "harbour-store", until = "sent" }
	Until string `toml:"until" json:"until,omitempty"`
}

// What a step that publishes waits for.
const (
	UntilSent     = "sent"
	UntilAccepted = "accepted"
	UntilOut      = "out"
)

// maxPublishNote is the most bytes that testers are told of what to look at.
const maxPublishNote = 1000

// NameForm is what an outlet, and a channel, may be called.
var NameForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// Complaints implements Action.
func (p *Publish) Complaints() (list []Complaint) {
	if p.To == "" {
		list = append(list, Complaint{"missing-key", "", "publish does not say to which outlet",
			`Add to = "NAME", one that piston outlet list shows.`})
	}
	for key, name := range map[string]string{"to": p.To, "channel": p.Channel} {
		if name != "" && !NameForm.MatchString(name) {
			list = append(list, Complaint{"bad-name", key, "nothing can be called so",
				"Use letters, digits and . _ -, beginning with a letter or digit."})
		}
	}
	if p.Share < 0 || p.Share > 100 {
		list = append(list, Complaint{"bad-value", "share", "a share is of a hundred people", "Use a number from 1 to 100."})
	}
	if len(p.Note) > maxPublishNote || strings.ContainsRune(p.Note, 0) {
		list = append(list, Complaint{"too-many", "note", "the note has more than 1000 bytes, or a NUL character",
			"Say it shorter."})
	}
	if _, err := quantity.ParseStages(p.Share, p.Raise); err != nil {
		list = append(list, Complaint{"bad-value", "raise", err.Error(),
			`Write steps that rise from the share: share = 10, raise = ["50% after 1d", "100% after 2d"].`})
	}
	if p.Hold && p.Until != UntilSent && p.Until != UntilAccepted {
		list = append(list, Complaint{"bad-value", "hold", "it is to be kept back, and the step waits until it is out",
			`Add until = "accepted": the release is given out by piston publication share.`})
	}
	switch p.Until {
	case "", UntilSent, UntilAccepted, UntilOut:
	default:
		list = append(list, Complaint{"bad-value", "until", `until is "` + p.Until + `"`,
			`Use "sent", "accepted" or "out".`})
	}
	return list
}

// Paths implements Action.
func (p *Publish) Paths() map[string]*string { return nil }

// Writes implements Action.
func (p *Publish) Writes() map[string]*string { return nil }

// Texts implements Action.
func (p *Publish) Texts() map[string]string { return nil }
