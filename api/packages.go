package api

import (
	"time"

	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/checklist"
	"gentlepiston.example/piston/core/record"
)

// PackagesSeen is what a step has found in packages, to be held against the checklist.
type PackagesSeen struct {
	Step     int           `json:"step" minimum:"0"`
	Packages []PackageSeen `json:"packages" maxItems:"200"`
}

// PackageSeen is one of them.
type PackageSeen struct {
	File   string        `json:"file" minLength:"1" maxLength:"1000"`
	SHA256 string        `json:"sha256" pattern:"^[0-9a-f]{64}$"`
	Facts  appfile.Facts `json:"facts"`
}

// Judged is what the checklist says of packages.
type Judged struct {
	Packages []JudgedPackage `json:"packages"`
	// Whether anything is against a rule, and not accepted.
	Failed bool `json:"failed"`
}

// JudgedPackage is what it says of one.
type JudgedPackage struct {
	ID   record.PackageID `json:"id"`
	File string           `json:"file"`
	// The number of the run that made the one it was compared with; absent when there was none.
	LastRun  record.RunNumber   `json:"last_run,omitempty"`
	LastSize int64              `json:"last_size,omitempty"`
	Findings []checklist.Breach `json:"findings"`
}

// Package is one that a run has made.
type Package struct {
	ID       record.PackageID `json:"id"`
	Run      record.RunNumber `json:"run"`
	Pipeline string           `json:"pipeline"`
	Branch   string           `json:"branch"`
	Commit   string           `json:"commit"`
	State    string           `json:"state"` // of the run
	At       time.Time        `json:"at"`
	File     string           `json:"file"`
	SHA256   string           `json:"sha256"`
	Size     int64            `json:"size"`
	Kind     appfile.Kind     `json:"kind" enum:"apk,app-bundle,ipa"`
	Platform string           `json:"platform" enum:"android,ios"`
	App      string           `json:"app"` // the application's id
	Version  string           `json:"version"`
	Build    string           `json:"build"`
	// How many findings there are, and how many of them are not accepted.
	Findings int `json:"findings"`
	Failed   int `json:"failed"`
	// And about how many of them people are asked.
	Asked int `json:"asked,omitempty"`
}

// PackageFilter says which packages are wanted.
type PackageFilter struct {
	App     string           `query:"app" maxLength:"255"`
	Kind    string           `query:"kind" enum:"apk,app-bundle,ipa,"`
	Version string           `query:"version" maxLength:"100"`
	Commit  string           `query:"commit" maxLength:"64" doc:"the beginning of one"`
	SHA256  string           `query:"sha256" maxLength:"64" doc:"the beginning of one"`
	BuildID string           `query:"build_id" maxLength:"100" doc:"of a program in it, as a crash names it"`
	Run     record.RunNumber `query:"run" minimum:"0"`
	Before  record.PackageID `query:"before" minimum:"0" doc:"what a page before said under next"`
	Limit   int              `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

// PackagePage is a page of packages, newest first.
type PackagePage struct {
	Packages []Package `json:"packages"`
	// Pass as before to get the following page; absent on the last.
	Next record.PackageID `json:"next,omitempty"`
}

// PackageDetail is all that is known of one.
type PackageDetail struct {
	Package
	Facts     appfile.Facts      `json:"facts"`
	Checklist []checklist.Breach `json:"checklist"`
	// The one before it, of the same kind; absent when there is none.
	Since *PackageSince `json:"since,omitempty"`
	// The last one that went to people; absent when there is none, or when it is the one before.
	Released *PackageSince `json:"released,omitempty"`
}

// PackageSince is how a package differs from the one before it.
type PackageSince struct {
	Package Package          `json:"package"`
	Groups  []appfile.Growth `json:"groups"`
	Entries []appfile.Growth `json:"entries"`
}

// StatementKey is what statements of this service are checked with.
type StatementKey struct {
	// A public key, Ed25519, as PEM.
	Key string `json:"key"`
}

// Provenance states from what a package was built, by whom and how.
type Provenance struct {
	// A signed statement of in-toto in an envelope (DSSE), as JSON.
	Envelope string `json:"envelope"`
	// The public key that it was signed by, as PEM. Whoever checks it offline should have this from elsewhere.
	Key string `json:"key"`
}
