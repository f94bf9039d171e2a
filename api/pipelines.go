package api

import (
	"time"

	"gentlepiston.example/piston/core/definition"
)

// PipelineNote is a pipeline as it stands at a commit.
type PipelineNote struct {
	Name     string               `json:"name"`
	About    string               `json:"about,omitempty"`
	Triggers []string             `json:"triggers" doc:"What starts it, one sentence each."`
	Inputs   []*definition.Input  `json:"inputs" doc:"What it asks for when started by hand."`
	Jobs     []GraphJob           `json:"jobs"`
	Findings []definition.Finding `json:"findings"`
	Text     string               `json:"text" doc:"The file."`
	Path     string               `json:"path"`
}

// GraphJob is a job in the graph of a pipeline.
type GraphJob struct {
	Name  string   `json:"name"`
	After []string `json:"after"`
	Of    string   `json:"of,omitempty"`
	Steps int      `json:"steps"`
	When  string   `json:"when,omitempty"`
	Line  int      `json:"line" doc:"Where it stands in the file."`
}

// Pipelines are those of a project at a commit.
type Pipelines struct {
	Ref       string               `json:"ref"`
	Commit    string               `json:"commit"`
	Pipelines []PipelineNote       `json:"pipelines"`
	Findings  []definition.Finding `json:"findings" doc:"About the repository as a whole."`
}

// CheckRequest asks what is wrong with a pipeline file that is not pushed yet.
type CheckRequest struct {
	Name string `json:"name" pattern:"^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$"`
	Text string `json:"text" maxLength:"1048576"`
	Ref  string `json:"ref,omitempty" maxLength:"1024" doc:"The tree to check it against; default: the main branch."`
}

// Knowledge is what a check on a person's machine asks the service.
type Knowledge struct {
	Secrets   []SecretRule `json:"secrets"`
	Runners   []Runner     `json:"runners"`
	LastBuild int64        `json:"last_build"`
}

// Restart says how to start a run again.
type Restart struct {
	Failed bool `json:"failed" doc:"Only what did not pass, in the same run; else everything, as a new run."`
}

// Hold says why a project's jobs are kept from being handed out.
type Hold struct {
	Reason string `json:"reason" maxLength:"300" doc:"Empty to let them go again."`
}

// ProjectLimit bounds a project's jobs.
type ProjectLimit struct {
	AtOnce int `json:"at_once" minimum:"0" maximum:"10000" doc:"0 for any number."`
}

// QueuedJob is a job that waits.
type QueuedJob struct {
	Project  string    `json:"project"`
	Run      int64     `json:"run"`
	Pipeline string    `json:"pipeline"`
	Job      string    `json:"job"`
	Branch   string    `json:"branch,omitempty"`
	Priority int       `json:"priority"`
	Queued   time.Time `json:"queued"`
	Place    int       `json:"place" doc:"In the queue, from 1."`
	Why      string    `json:"why" doc:"What it waits for."`
}

// QueuePage is a page of the queue.
type QueuePage struct {
	Jobs    []QueuedJob `json:"jobs"`
	Total   int         `json:"total" doc:"Jobs that match, on all pages."`
	Next    int         `json:"next,omitempty" doc:"Pass as after to get the following page; absent on the last."`
	Working int         `json:"working" doc:"Jobs at work now."`
	Slots   int         `json:"slots" doc:"Jobs all runners that are there can do at a time."`
}

// Schedule is when a pipeline is due.
type Schedule struct {
	Pipeline string    `json:"pipeline"`
	Name     string    `json:"name"`
	Cron     string    `json:"cron"`
	Zone     string    `json:"zone"`
	Branch   string    `json:"branch"`
	Next     time.Time `json:"next"`
	LastRun  int64     `json:"last_run,omitempty"`
	Note     string    `json:"note,omitempty" doc:"What was out of the ordinary the last time."`
}

// Since is what has changed since a pipeline last passed.
type Since struct {
	Run        int64        `json:"run" doc:"The run that passed; 0 when there is none."`
	Commits    []CommitNote `json:"commits" doc:"Newest first; at most 100."`
	Definition []Difference `json:"definition" doc:"Values of the pipeline's jobs."`
	Tools      []Difference `json:"tools"`
	Caches     []Difference `json:"caches" doc:"Keys of caches, by job and name."`
	Secrets    []Difference `json:"secrets" doc:"Revisions of secrets."`
	Runners    []Difference `json:"runners"`
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
