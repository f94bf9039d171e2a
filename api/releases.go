package api

import (
	"time"

	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
)

// Release is a version of an app that is to go to people.
type Release struct {
	ID      record.ReleaseID `json:"id"`
	Project string           `json:"project"`
	App     string           `json:"app"`
	// The version's name.
	Name string `json:"name"`
	// The build number by the platform.
	Builds   map[string]version.BuildNumber `json:"builds"`
	Run      record.RunNumber               `json:"run"`
	Pipeline string                         `json:"pipeline"`
	Branch   string                         `json:"branch,omitempty"`
	Tag      string                         `json:"tag,omitempty"`
	Commit   string                         `json:"commit"`
	Made     time.Time                      `json:"made"`
	// Who made it by hand; absent when its run did.
	MadeBy string `json:"made_by,omitempty"`
	// How many packages it has, and their bytes.
	Packages int   `json:"packages"`
	Size     int64 `json:"size"`
	// Where it went, and how it stands there.
	Went []Went `json:"went"`
	// When it was taken back; absent when it stands.
	Withdrawn   *time.Time `json:"withdrawn,omitempty"`
	WithdrawnBy string     `json:"withdrawn_by,omitempty"`
	Reason      string     `json:"reason,omitempty"`
}

// Went is where a release went last, in a channel of an outlet.
type Went struct {
	Outlet  string `json:"outlet"`
	Channel string `json:"channel"`
	// As that of a publication.
	State publication.State `json:"state"`
	// Of a hundred people.
	OutTo int `json:"out_to"`
}

// NewRelease makes a release of what a run has kept.
type NewRelease struct {
	Run record.RunNumber `json:"run" minimum:"1"`
	// As piston/app.toml calls it; absent: the one the run has raised, else the only one.
	App string `json:"app,omitempty" maxLength:"63"`
}

// Withdrawal takes a release back.
type Withdrawal struct {
	// Why, for whoever looks at it later.
	Reason string `json:"reason" minLength:"1" maxLength:"2000" pattern:"^[^\\x00]*$"`
}

// ReleaseFilter says which releases are wanted.
type ReleaseFilter struct {
	App      string           `query:"app" maxLength:"63"`
	Contains string           `query:"contains" maxLength:"64" doc:"in the version's name"`
	State    string           `query:"state" enum:"standing,withdrawn,"`
	Before   record.ReleaseID `query:"before" minimum:"0" doc:"what a page before said under next"`
	Limit    int              `query:"limit" minimum:"1" maximum:"200" default:"30"`
}

// ReleasePage is a page of releases, newest first.
type ReleasePage struct {
	Releases []Release `json:"releases"`
	// Pass as before to get the following page; absent on the last.
	Next record.ReleaseID `json:"next,omitempty"`
}

// ReleaseDetail is all that is known of a release, and what became of it.
type ReleaseDetail struct {
	Release
	Contents []ReleasePackage `json:"contents"`
	// What those who use the app are told, in each language.
	Notes []ReleaseNote `json:"notes"`
	// What people were asked in its run.
	Gates []Gate   `json:"gates"`
	Story []Moment `json:"story"`
}

// ReleasePackage is a package of a release, and the kept file that it is.
type ReleasePackage struct {
	Package
	Artifact record.ArtifactID `json:"artifact"`
}

// Moment is something that happened to a release: raised, landed, made, asked, yes, no, unanswered, withdrawn; or of a
// publication its state.
type Moment struct {
	At   time.Time `json:"at"`
	Kind string    `json:"kind"`
	By   string    `json:"by,omitempty"`
	// Of a publication: the outlet and its channel.
	To   string `json:"to,omitempty"`
	Text string `json:"text,omitempty"`
}
