package api

import (
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/testreport"
)

// CasesRan are test cases of a step's reports, a part of them at a time. Telling it again is harmless.
type CasesRan struct {
	// The step's place in the job, from 0.
	Step  int        `json:"step" minimum:"0"`
	Cases []CaseSeen `json:"cases" maxItems:"2000"`
}

// DealRequest asks what of a list falls to a variant of a job.
type DealRequest struct {
	// The step's place in the job, from 0.
	Step int `json:"step" minimum:"0"`
	// Names, each once.
	Items []string `json:"items" maxItems:"50000"`
}

// Dealt is what falls to it.
type Dealt struct {
	Items []string `json:"items"`
	// What these take in all, as far as that is known, and what the most that falls to another takes.
	Ms     int64 `json:"ms"`
	MostMs int64 `json:"most_ms"`
	// Among how many variants was dealt, and for how many names a time is known.
	Among int `json:"among"`
	Known int `json:"known"`
}

// CaseSeen is what came of a test case.
type CaseSeen struct {
	Suite   string            `json:"suite" maxLength:"1000"`
	Name    string            `json:"name" maxLength:"1000"`
	Result  testreport.Result `json:"result" enum:"passed,failed,skipped"`
	TookMs  int64             `json:"took_ms" minimum:"0"`
	Message string            `json:"message,omitempty" maxLength:"2000"`
}

// CasesNoted answers them: which of those that failed are set aside.
type CasesNoted struct {
	Aside []CaseAside `json:"aside"`
}

// CaseAside is a case whose failure fails nothing until a day.
type CaseAside struct {
	Suite  string    `json:"suite"`
	Name   string    `json:"name"`
	Reason string    `json:"reason"`
	Until  time.Time `json:"until"`
	By     string    `json:"by,omitempty"`
}

// TestFilter says which test cases a list has.
type TestFilter struct {
	Show string `query:"show" enum:"failing,flaky,slow,slower,new,gone,aside,all" default:"failing" doc:"Which"`
	// In suite or name.
	Contains string `query:"contains" maxLength:"200" doc:"Only with this in suite or name"`
	Skip     int    `query:"skip" minimum:"0" maximum:"1000000" doc:"Leave out so many: next of the page before"`
	Limit    int    `query:"limit" minimum:"1" maximum:"500" default:"50" doc:"At most so many"`
}

// TestPage is a part of a project's test cases.
type TestPage struct {
	Cases []TestCase `json:"cases"`
	// How many to leave out for what comes next; 0 when nothing does.
	Next int `json:"next,omitempty"`
	// Of the whole project.
	All     int `json:"all"`
	Failing int `json:"failing"`
	Flaky   int `json:"flaky"`
	Aside   int `json:"aside"`
}

// TestCase is a test case of a project, and how it stands. Times are in milliseconds.
type TestCase struct {
	ID    record.CaseID `json:"id"`
	Suite string        `json:"suite"`
	Name  string        `json:"name"`
	// Where it ran last.
	Pipeline string           `json:"pipeline"`
	Job      string           `json:"job"`
	FirstRun record.RunNumber `json:"first_run"`
	First    time.Time        `json:"first"`
	LastRun  record.RunNumber `json:"last_run"`
	Last     time.Time        `json:"last"`
	Result   string           `json:"result" enum:"passed,failed,skipped,both"`
	Took     int64            `json:"took_ms"`
	// What it takes when it passes; later runs weigh more. Absent while it has never passed.
	Usual    *int64 `json:"usual_ms,omitempty"`
	Runs     int64  `json:"runs"`
	Failures int64  `json:"failures"`
	// The run since which it fails; 0: it does not.
	FailingSince record.RunNumber `json:"failing_since,omitempty"`
	// Of how many contents it passed and failed, and the last run that showed it.
	Flaky    int64            `json:"flaky,omitempty"`
	FlakyRun record.RunNumber `json:"flaky_run,omitempty"`
	// Where its failure fails nothing.
	Aside *CaseAside `json:"aside,omitempty"`
}

// TestHistory is all of one case.
type TestHistory struct {
	TestCase
	// The latest first; at most 200.
	Results []TestResult `json:"results"`
	// Where it fails: the first run of that, and the one before in which it passed.
	Broke *TestBroke `json:"broke,omitempty"`
	// Where it began to take longer or less.
	Changes []TimedChange `json:"changes,omitempty"`
}

// TestBroke is when a case began to fail.
type TestBroke struct {
	Run record.RunNumber `json:"run"`
	// The last run before it in which it passed; 0 when there is none.
	Passed  record.RunNumber `json:"passed,omitempty"`
	Commit  string           `json:"commit"`
	Subject string           `json:"subject"`
	Author  string           `json:"author,omitempty"`
	Since   Since            `json:"since"`
}

// TestResult is what came of a case once.
type TestResult struct {
	Run     record.RunNumber `json:"run"`
	Job     string           `json:"job"`
	Attempt int              `json:"attempt"`
	Result  string           `json:"result" enum:"passed,failed,skipped,both"`
	Took    int64            `json:"took_ms"`
	Message string           `json:"message,omitempty"`
	Branch  string           `json:"branch,omitempty"`
	Commit  string           `json:"commit"`
	Subject string           `json:"subject"`
	At      time.Time        `json:"at"`
	// It passed and failed on this content.
	Flaky bool `json:"flaky,omitempty"`
}

// NewAside sets a case aside.
type NewAside struct {
	Reason string `json:"reason" minLength:"3" maxLength:"500"`
	// The last day of it.
	Until time.Time `json:"until"`
}
