package api

import (
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/record"
)

// PipelineNote is a pipeline as it stands at a commit.
type PipelineNote struct {
	Name  string `json:"name"`
	About string `json:"about,omitempty"`
	// What starts it, one sentence each.
	Triggers []string `json:"triggers"`
	// What it asks for when started by hand.
	Inputs   []*definition.Input  `json:"inputs"`
	Jobs     []GraphJob           `json:"jobs"`
	Findings []definition.Finding `json:"findings"`
	// The file.
	Text string `json:"text"`
	Path string `json:"path"`
}

// GraphJob is a job in the graph of a pipeline.
type GraphJob struct {
	Name  string   `json:"name"`
	After []string `json:"after"`
	Of    string   `json:"of,omitempty"`
	Steps int      `json:"steps"`
	When  string   `json:"when,omitempty"`
	// Where it stands in the file.
	Line int `json:"line"`
}

// Pipelines are those of a project at a commit.
type Pipelines struct {
	Ref       string         `json:"ref"`
	Commit    string         `json:"commit"`
	Pipelines []PipelineNote `json:"pipelines"`
	// About the repository as a whole.
	Findings []definition.Finding `json:"findings"`
}

// CheckRequest asks what is wrong with a pipeline file that is not pushed yet.
type CheckRequest struct {
	Name string `json:"name" pattern:"^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$"`
	Text string `json:"text" maxLength:"1048576"`
	// The tree to check it against; default: the main branch.
	Ref string `json:"ref,omitempty" maxLength:"1024"`
}

// Knowledge is what a check on a person's machine asks the service.
type Knowledge struct {
	Secrets   []SecretRule `json:"secrets"`
	Runners   []Runner     `json:"runners"`
	LastBuild int64        `json:"last_build"`
	// What its apps were handed out last.
	Given []LedgerLine `json:"given"`
	// Names of the places where its releases can go; absent from a service that knows of none.
	Outlets []string `json:"outlets,omitempty"`
}

// Restart says how to start a run again.
type Restart struct {
	// Only what did not pass, in the same run; else everything, as a new run.
	Failed bool `json:"failed"`
}

// Hold says why a project's jobs are kept from being handed out.
type Hold struct {
	// Empty to let them go again.
	Reason string `json:"reason" maxLength:"300"`
}

// ProjectLimit bounds a project's jobs.
type ProjectLimit struct {
	// 0 for any number.
	AtOnce int `json:"at_once" minimum:"0" maximum:"10000"`
}

// QueuedJob is a job that waits.
type QueuedJob struct {
	Project  string           `json:"project"`
	Run      record.RunNumber `json:"run"`
	Pipeline string           `json:"pipeline"`
	Job      string           `json:"job"`
	Branch   string           `json:"branch,omitempty"`
	Priority int              `json:"priority"`
	Queued   time.Time        `json:"queued"`
	// In the queue, from 1.
	Place int `json:"place"`
	// What it waits for.
	Why string `json:"why"`
}

// QueuePage is a page of the queue.
type QueuePage struct {
	Jobs []QueuedJob `json:"jobs"`
	// Jobs that match, on all pages.
	Total int `json:"total"`
	// Pass as after to get the following page; absent on the last.
	Next int `json:"next,omitempty"`
	// Jobs at work now.
	Working int `json:"working"`
	// Jobs all runners that are there can do at a time.
	Slots int `json:"slots"`
}

// Schedule is when a pipeline is due.
type Schedule struct {
	Pipeline string           `json:"pipeline"`
	Name     string           `json:"name"`
	Cron     string           `json:"cron"`
	Zone     string           `json:"zone"`
	Branch   string           `json:"branch"`
	Next     time.Time        `json:"next"`
	LastRun  record.RunNumber `json:"last_run,omitempty"`
	// What was out of the ordinary the last time.
	Note string `json:"note,omitempty"`
}

// Since is what has changed since a pipeline last passed.
type Since struct {
	// The run that passed; 0 when there is none.
	Run record.RunNumber `json:"run"`
	// Newest first; at most 100.
	Commits []CommitNote `json:"commits"`
	// Values of the pipeline's jobs.
	Definition []Difference `json:"definition"`
	Tools      []Difference `json:"tools"`
	// Keys of caches, by job and name.
	Caches []Difference `json:"caches"`
	// Revisions of secrets.
	Secrets []Difference `json:"secrets"`
	Runners []Difference `json:"runners"`
}

// CommitNote is a commit in a list.
type CommitNote struct {
	ID      string `json:"id"`
	Subject string `json:"subject"`
	Author  string `json:"author"`
}

// Difference is a value before and after; one of them is empty when there was none.
type Difference struct {
	What   string `json:"what"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}
