package api

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

// RaiseRequest asks for the next version of an app, for the run of an attempt.
type RaiseRequest struct {
	App string `json:"app" minLength:"1" maxLength:"63" pattern:"^[A-Za-z0-9][A-Za-z0-9_-]*$"`
	// By what; see the reference of the pipeline file.
	By  string `json:"by,omitempty" maxLength:"20"`
	Pre string `json:"pre,omitempty" maxLength:"20"`
	To  string `json:"to,omitempty" maxLength:"64"`
	// For which platforms.
	Platforms []string `json:"platforms" minItems:"1" maxItems:"2" enum:"android,ios"`
	// The highest name that stands in the app's files; empty when none does.
	Name string `json:"name,omitempty" maxLength:"64"`
	// The highest build numbers that stand there, by platform.
	Builds map[string]int64 `json:"builds,omitempty"`
	// How build numbers follow each other: count, date or name.
	Scheme string `json:"scheme,omitempty" enum:"count,date,name"`
	Digits []int  `json:"digits,omitempty" maxItems:"5"`
	Span   int    `json:"span,omitempty" minimum:"0" maximum:"100"`
	// Whether each platform counts for itself.
	Each bool `json:"each,omitempty"`
}

// Raised is a version that a run was handed out.
type Raised struct {
	App  string `json:"app"`
	Name string `json:"name"`
	// The first build number of each platform.
	Builds map[string]version.BuildNumber `json:"builds"`
	// Why it is this name.
	Why string `json:"why,omitempty"`
	// What steps find of it as variables.
	Env map[string]string `json:"env,omitempty"`
	// Whether it counts: what a proposal is given is in no ledger, and others may be given it too.
	Counts bool `json:"counts"`
}

// Next is what an app's places are to say of it.
func (r Raised) Next() (versionfile.Next, error) {
	name, err := version.Parse(r.Name)
	next := versionfile.Next{Name: name, Builds: map[versionfile.Platform]version.BuildNumber{}}
	for platform, n := range r.Builds {
		next.Builds[versionfile.Platform(platform)] = n
	}
	return next, err
}

// Variables are what steps find of it.
func (r Raised) Variables() map[string]string {
	env := map[string]string{"PISTON_VERSION_NAME": r.Name}
	highest := version.BuildNumber(0)
	for platform, n := range r.Builds {
		env["PISTON_BUILD_NUMBER_"+strings.ToUpper(platform)] = strconv.FormatInt(int64(n), 10)
		highest = max(highest, n)
	}
	env["PISTON_BUILD_NUMBER"] = strconv.FormatInt(int64(highest), 10)
	return env
}

// LandRequest asks the service to bring the run's version back into the repository, as a step of the job says.
type LandRequest struct {
	// Its place in the job, from 0. What it lands, and where, is in the pipeline as it was planned: a runner has no say.
	Step int `json:"step" minimum:"0"`
}

// Landed tells what has become of a landing.
type Landed struct {
	App  string `json:"app"`
	Name string `json:"name"`
	// The run whose version is to land before; ask again in a while. The rest is empty then.
	After  record.RunNumber `json:"after,omitempty"`
	Commit string           `json:"commit,omitempty"`
	Branch string           `json:"branch,omitempty"`
	Tag    string           `json:"tag,omitempty"`
	// The files that it changed.
	Files []string `json:"files,omitempty"`
	// What else is to be said of it.
	Note string `json:"note,omitempty"`
}

// Lines say it, for the log of the step.
func (l Landed) Lines() (list []string) {
	if l.Commit != "" {
		list = append(list, fmt.Sprintf("%s %s is commit %.12s on %s", l.App, l.Name, l.Commit, l.Branch))
	}
	if len(l.Files) > 0 {
		list = append(list, "changed: "+strings.Join(l.Files, ", "))
	}
	if l.Tag != "" {
		list = append(list, "tagged "+l.Tag)
	}
	if l.Note != "" {
		list = append(list, l.Note)
	}
	return list
}

// LedgerEntry is a version that was handed out, for one platform.
type LedgerEntry struct {
	ID       int64  `json:"id"`
	App      string `json:"app"`
	Platform string `json:"platform" enum:"android,ios"`
	Name     string `json:"name"`
	// From the first to the last of the run's numbers; mostly one.
	Build     version.BuildNumber `json:"build"`
	LastBuild version.BuildNumber `json:"last_build"`
	// Whether the name was handed out with it, and not only the number.
	Named    bool             `json:"named"`
	Run      record.RunNumber `json:"run"`
	Pipeline string           `json:"pipeline"`
	Branch   string           `json:"branch,omitempty"`
	Commit   string           `json:"commit"`
	// Why it was this one.
	Why string `json:"why"`
	// building while its run works, kept when that passed, void when it did not: then the name is free again.
	State string `json:"state" enum:"building,kept,void"`
	// The commit that brought it back into the repository.
	Landed string    `json:"landed,omitempty"`
	Issued time.Time `json:"issued"`
}

// LedgerLine is how far an app has come on a platform.
type LedgerLine struct {
	App      string `json:"app"`
	Platform string `json:"platform" enum:"android,ios"`
	// The last number that was handed out.
	Last version.BuildNumber `json:"last"`
	// What a store had before: the next number is above it.
	Floor version.BuildNumber `json:"floor,omitempty"`
	// The highest name that is built or was kept.
	Name string `json:"name,omitempty"`
	// The commit that the app's highest kept name was built of.
	Released string `json:"released,omitempty"`
}

// Ledger is a page of a project's ledger.
type Ledger struct {
	Lines []LedgerLine `json:"lines"`
	// The project's own count of builds. Apps whose numbers are counted go on from there, or from their line when that is
	// higher.
	Count   version.BuildNumber `json:"count"`
	Entries []LedgerEntry       `json:"entries"`
	// Pass as before to get the following page; absent on the last.
	Next int64 `json:"next,omitempty"`
}

// LedgerFilter chooses of a ledger.
type LedgerFilter struct {
	App      string `query:"app" doc:"only of this app" maxLength:"63"`
	Platform string `query:"platform" doc:"only of this platform" enum:"android,ios"`
	State    string `query:"state" doc:"only in this state" enum:"building,kept,void"`
	Contains string `query:"contains" doc:"only names with this" maxLength:"64"`
	Before   int64  `query:"before" doc:"only below this id: what a page before said under next" minimum:"0"`
	Limit    int    `query:"limit" doc:"most entries" minimum:"1" maximum:"1000" default:"50"`
}

// LedgerFloor says what a store had before the app came here.
type LedgerFloor struct {
	App      string              `json:"app" minLength:"1" maxLength:"63" pattern:"^[A-Za-z0-9][A-Za-z0-9_-]*$"`
	Platform string              `json:"platform" enum:"android,ios"`
	Floor    version.BuildNumber `json:"floor" minimum:"1" maximum:"2100000000"`
}
