package api

import (
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// Overview is a project at a glance: is it fine, what is at work, what needs somebody.
type Overview struct {
	Project string `json:"project"`
	Remote  string `json:"remote"`
	Held    string `json:"held,omitempty"`
	Trouble string `json:"trouble,omitempty"`
	// Its runs were set back in time, for show.
	SetBack   bool               `json:"set_back,omitempty"`
	Pipelines []PipelineOverview `json:"pipelines"`
	// Queued, and at work.
	Queued int `json:"queued"`
	AtWork int `json:"at_work"`
	// Gates that wait for an answer.
	Waiting int `json:"waiting"`
	// Test cases that fail now, and those that are flaky.
	Failing int `json:"failing"`
	Flaky   int `json:"flaky"`
	// The latest release.
	Release *OverviewRelease `json:"release,omitempty"`
	// Its budget, where it has one.
	Budget *Budget `json:"budget,omitempty"`
}

// PipelineOverview is how a pipeline stands.
type PipelineOverview struct {
	Pipeline string `json:"pipeline"`
	// The last runs, the oldest first; at most 30.
	Runs []RunTick `json:"runs"`
	// The latest run of each branch or tag among them, the latest first.
	Branches []RunTick `json:"branches"`
}

// RunTick is a run in a strip of them.
type RunTick struct {
	Run     record.RunNumber `json:"run"`
	State   state.State      `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,waiting"`
	Branch  string           `json:"branch,omitempty"`
	Tag     string           `json:"tag,omitempty"`
	Subject string           `json:"subject,omitempty"`
	At      time.Time        `json:"at"`
	// From queued to its end, in milliseconds; 0 while it is not over.
	Took int64 `json:"took_ms"`
	// Where it failed.
	FailedAt string `json:"failed_at,omitempty"`
	Reason   string `json:"reason,omitempty"`
}

// OverviewRelease is the latest release of a project.
type OverviewRelease struct {
	App  string           `json:"app"`
	Name string           `json:"name"`
	Run  record.RunNumber `json:"run"`
	At   time.Time        `json:"at"`
	// Publications of it that are not out yet.
	UnderWay int `json:"under_way"`
}
