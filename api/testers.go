package api

import (
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
)

// Tester is somebody who tries releases: with a mail address, and without an account.
type Tester struct {
	ID      record.TesterID `json:"id"`
	Address string          `json:"address"`
	Groups  []string        `json:"groups"`
	// Where their own page is. Who has it, sees what they see.
	Link  string    `json:"link"`
	Added time.Time `json:"added"`
	By    string    `json:"by"`
	// Whether they want no mail.
	Quiet bool `json:"quiet"`
	// Why the mail server did not take the last mail to them; absent when it did.
	Trouble string `json:"trouble,omitempty"`
	// How often they have fetched something, and when last.
	Downloads int        `json:"downloads"`
	Last      *time.Time `json:"last,omitempty"`
}

// TesterPage is a page of testers, in the order in which they were added.
type TesterPage struct {
	Testers []Tester `json:"testers"`
	// Pass as after to get the following page; absent on the last.
	Next record.TesterID `json:"next,omitempty"`
}

// TesterFilter says which testers are wanted.
type TesterFilter struct {
	Group    string          `query:"group" maxLength:"63"`
	Contains string          `query:"contains" maxLength:"254" doc:"what the address contains"`
	After    record.TesterID `query:"after" minimum:"0" doc:"what a page before said under next"`
	Limit    int             `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

// NewTesters puts people into a group of testers.
type NewTesters struct {
	Group     string   `json:"group" pattern:"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$"`
	Addresses []string `json:"addresses" minItems:"1" maxItems:"10000"`
}

// AddedTesters tells what came of it.
type AddedTesters struct {
	// Who is new in the project, and in the group.
	Added  int `json:"added"`
	Joined int `json:"joined"`
}

// TesterLink is where a tester's page is.
type TesterLink struct {
	Link string `json:"link"`
}

// TestDevice is one that a provisioning profile has to list.
type TestDevice struct {
	Tester  record.TesterID `json:"tester"`
	Address string          `json:"address"`
	Device  string          `json:"device"`
	// As its owner calls it.
	Name  string    `json:"name"`
	Added time.Time `json:"added"`
	// Whether the profile of the last release for testers lists it; absent when there is none that lists any.
	Listed *bool `json:"listed,omitempty"`
}

// Tried tells how a release fares with testers.
type Tried struct {
	Groups []TriedGroup `json:"groups"`
	// What they say, newest first.
	Words []TesterWord `json:"words"`
}

// TriedGroup tells how a release fares with a group.
type TriedGroup struct {
	// By which testers' pages call it.
	ID     record.TrialID `json:"id"`
	Group  string         `json:"group"`
	Note   string         `json:"note,omitempty"`
	Begun  time.Time      `json:"begun"`
	Ends   time.Time      `json:"ends"`
	Halted bool           `json:"halted"`
	// Who are in the group, and who of them have fetched it.
	Testers    int `json:"testers"`
	Downloaded int `json:"downloaded"`
}

// TesterWord is what a tester says of a release.
type TesterWord struct {
	ID record.WordID `json:"id"`
	// Who says it, without their address; 0 when they are no tester any more.
	Tester record.TesterID `json:"tester"`
	At     time.Time       `json:"at"`
	Text   string          `json:"text"`
	// Whether a picture came with it.
	Picture bool `json:"picture"`
}

// Trying is what a tester's own page shows.
type Trying struct {
	Project  string
	Releases []TryingRelease // newest first
	Devices  []TestDevice
	Quiet    bool
	Link     string // of the page itself
}

// TryingRelease is one that a tester may have.
type TryingRelease struct {
	Trial  record.TrialID
	App    string
	Name   string
	Builds map[string]version.BuildNumber
	Begun  time.Time
	Ends   time.Time
	Note   string // what to look at
	Notes  []ReleaseNote
	Files  []TryingFile
}

// TryingFile is a package that a tester may have.
type TryingFile struct {
	Artifact record.ArtifactID
	File     string // its base name
	Kind     string // apk or ipa
	ID       string // the application's
	Label    string // as people see it on their device
	Version  string
	Build    string
	Size     int64
	SHA256   string
	Lowest   string // system that it is for
	Picture  []byte // PNG
	// Whether it is for listed devices only, and which of the tester's are not among them.
	Lists    bool
	Unlisted []string
}
