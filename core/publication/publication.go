// Package publication names what can be said of a release on its way to people: where it stands, what stands where it
// goes, and what is missing.
//
// The states are part of the API, the database and the console; a new one is a change to all three.
package publication

import (
	"time"

	"gentlepiston.example/piston/core/version"
)

// State is where a publication stands.
type State string

// The states, in the order in which one goes through them.
const (
	Prepared   State = "prepared"   // nothing of it is sent
	Sending    State = "sending"    // its packages are on their way
	Processing State = "processing" // the outlet works on it
	InReview   State = "in-review"  // people of the outlet look at it
	Accepted   State = "accepted"   // it waits to be given out
	Shared     State = "shared"     // out to a share of people
	Out        State = "out"        // out to all
	Halted     State = "halted"     // no further people get it
	Refused    State = "refused"
	Withdrawn  State = "withdrawn" // taken back
)

// Waits reports whether the outlet has it, and what becomes of it next is not ours to say.
func (s State) Waits() bool { return s == Processing || s == InReview || s == Accepted }

// Given reports whether people get it, or got it.
func (s State) Given() bool { return s == Shared || s == Out || s == Halted }

// Standing is what stands in a channel of an outlet.
type Standing struct {
	// What people get, the newest first.
	Out []Version `json:"out"`
	// The name of what is in the way of anything new, such as a draft; absent when nothing is.
	Draft string `json:"draft,omitempty"`
	// The highest build number that was ever taken there, where a new one has to be above it; absent otherwise.
	Last string `json:"last,omitempty"`
}

// Version is one that people get.
type Version struct {
	Name   string                         `json:"name"`
	Builds map[string]version.BuildNumber `json:"builds"`
	// Of a hundred people.
	Share int       `json:"share"`
	Since time.Time `json:"since"`
}

// Missing is something that keeps a release from being taken.
type Missing struct {
	// What is missing, or in the way.
	What string `json:"what"`
	// How and where to mend it.
	Mend string `json:"mend"`
}

// Stands tells how something stands that was brought.
type Stands struct {
	State   State
	Share   int           // of a hundred people
	Reasons []string      // why it is refused
	Asks    []string      // what a person has to answer at the outlet before it goes on, with where
	Again   time.Duration // how long the outlet wants not to be asked; 0 when it does not say
}
