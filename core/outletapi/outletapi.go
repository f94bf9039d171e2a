// Package outletapi has the words of the outlet protocol, by which the service speaks to a store: what is said over
// HTTP, in JSON, between whoever brings a release and whoever gives it to people. docs/outlet-protocol.md tells how
// they are used.
//
// The words are part of the protocol: stores and adapters of others speak them. What is added must be such that who
// does not know it can pass it by; anything else is another Version.
package outletapi

import "time"

// Version is that of the protocol.
const Version = 1

// The paths, below the address of an outlet.
const (
	AboutPath    = "/outlet"
	TokenPath    = "/token"
	ChannelPath  = "/apps/{app}/channels/{channel}"
	ChecksPath   = "/checks"
	OffersPath   = "/offers"
	OfferPath    = "/offers/{id}"
	SubmitPath   = "/offers/{id}/submit"
	SharePath    = "/offers/{id}/share"
	HaltPath     = "/offers/{id}/halt"
	NewsPath     = "/news"
	KeyHeader    = "Idempotency-Key"
	AssertionFor = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer" // RFC 7523, section 2.2
)

// About is what an outlet says of itself to anybody.
type About struct {
	// Of the protocol.
	Protocol int    `json:"protocol"`
	Name     string `json:"name"`
	// That it gives nothing to anybody, being there for trying things.
	StandIn bool `json:"stand_in"`
	// Kinds of packages that it takes: apk, app-bundle, ipa.
	Takes    []string `json:"takes"`
	Channels []string `json:"channels"`
	// Whether it gives a release to a share of people.
	Shares bool `json:"shares"`
}

// Offer is a release that is brought, or would be.
type Offer struct {
	// The application's id, as its packages say it.
	App     string `json:"app" minLength:"1" maxLength:"255"`
	Version string `json:"version" minLength:"1" maxLength:"100"`
	Channel string `json:"channel" minLength:"1" maxLength:"100"`
	// To how many of a hundred people it goes once it is accepted.
	Share int `json:"share" minimum:"1" maximum:"100"`
	// Keep it until a share is set, also when it is accepted.
	Hold bool `json:"hold,omitempty"`
	// What is new, by the language (BCP 47).
	Notes    map[string]string `json:"notes"`
	Packages []Package         `json:"packages" minItems:"1" maxItems:"50"`
}

// Package is a file of an offer, and what is claimed of it: the outlet may tell by that what is missing before anything
// is sent.
type Package struct {
	File string `json:"file" minLength:"1" maxLength:"255"`
	// apk, app-bundle or ipa.
	Kind  string `json:"kind" maxLength:"20"`
	Build string `json:"build" maxLength:"100"`
	// Bytes.
	Size int64 `json:"size" minimum:"1"`
	// Hexadecimal.
	SHA256 string `json:"sha256" pattern:"^[0-9a-f]{64}$"`
	// SHA-256 of the certificates by which it is signed, hexadecimal.
	Signers []string `json:"signers"`
	// The system it was made for: a level of Android's interface, or a version of iOS.
	Target string `json:"target,omitempty"`
	// The processors it has code for; none when it has no native code.
	Processors []string `json:"processors"`
}

// Missing is something that keeps an offer from being taken.
type Missing struct {
	What string `json:"what"`
	// How and where to mend it.
	Mend string `json:"mend"`
}

// Check lists all that keeps an offer from being taken.
type Check struct {
	Missing []Missing `json:"missing"`
}

// State is where an offer stands.
type State string

// The states of an offer.
const (
	Awaited    State = "awaited" // packages of it are to come
	Processing State = "processing"
	InReview   State = "in-review"
	Accepted   State = "accepted"
	Shared     State = "shared"
	Out        State = "out"
	Halted     State = "halted"
	Refused    State = "refused"
	Withdrawn  State = "withdrawn"
)

// Status tells how an offer stands. An answer that has Retry-After does not want to be asked sooner.
type Status struct {
	ID      string `json:"id"`
	Version string `json:"version"`
	Channel string `json:"channel"`
	State   State  `json:"state" enum:"awaited,processing,in-review,accepted,shared,out,halted,refused,withdrawn"`
	// Of a hundred people who get it.
	Share int `json:"share"`
	// All of them, why it is refused.
	Reasons []string `json:"reasons"`
	// What a person has to answer before it goes on.
	Asks []Ask `json:"asks"`
	// Where its packages are to be sent.
	Uploads []Upload `json:"uploads"`
}

// Ask is a question that a person has to answer.
type Ask struct {
	Question string `json:"question"`
	// Address of the page on which it is answered.
	Where string `json:"where"`
}

// Upload is where a package is to be sent, by tus 1.0: HEAD tells what has come, PATCH brings more.
type Upload struct {
	File string `json:"file"`
	// Absolute, or below the outlet's address; always at the outlet's host.
	URL string `json:"url"`
	// Bytes.
	Received int64 `json:"received"`
}

// Standing is what stands in a channel.
type Standing struct {
	// What people get, the newest first.
	Out []Given `json:"out"`
	// What is in the way of anything new; absent when nothing is.
	Draft string `json:"draft,omitempty"`
	// The highest build number that was ever taken; a new one has to be above it. Absent when there is none.
	Last string `json:"last,omitempty"`
}

// Given is a version that people get.
type Given struct {
	Version string `json:"version"`
	Build   string `json:"build"`
	// Of a hundred people.
	Share int       `json:"share"`
	Since time.Time `json:"since"`
}

// Share sets how many of a hundred people get it.
type Share struct {
	Percent int `json:"percent" minimum:"1" maximum:"100"`
}

// News says where the outlet is to tell that something has changed, by Standard Webhooks. What it tells is taken as a
// reason to ask, never as true.
type News struct {
	URL string `json:"url" format:"uri" maxLength:"500"`
	// As Standard Webhooks writes it: whsec_ and base64.
	Secret string `json:"secret" maxLength:"200"`
}

// Told is what is told by a webhook.
type Told struct {
	// offer.changed
	Type      string    `json:"type"`
	Timestamp time.Time `json:"timestamp"`
	Data      struct {
		Offer string `json:"offer"`
	} `json:"data"`
}

// Problem is why something was not done (RFC 9457).
type Problem struct {
	Title  string `json:"title"`
	Detail string `json:"detail"`
	// Every reason, where there are several.
	Reasons []string `json:"reasons,omitempty"`
}
