// Package api holds the JSON shapes of the HTTP interface, shared by server, client, runner and command line.
// Times are RFC 3339 in UTC; spans are milliseconds; sizes are bytes; digests are lower-case hexadecimal SHA-256.
package api

import (
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/core/timing"
	"gentlepiston.example/piston/core/version"
)

// NewProject registers a source repository.
type NewProject struct {
	Name   string `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,62}$" doc:"Short name used in addresses and commands."`
	Remote string `json:"remote" minLength:"1" maxLength:"2000" doc:"Where the repository is: a folder on the server's machine, or an https address."`
}

// Lendings are the projects whose jobs may read a project's source, as submodules.
type Lendings struct {
	To []string `json:"to" maxItems:"100"`
}

// Project is a registered repository.
type Project struct {
	Name        string    `json:"name"`
	Remote      string    `json:"remote"`
	Created     time.Time `json:"created"`
	Latest      *Run      `json:"latest,omitempty" doc:"Its latest run."`
	Held        string    `json:"held,omitempty" doc:"Why no job of it is handed out."`
	HeldBy      string    `json:"held_by,omitempty"`
	AtOnce      int       `json:"at_once,omitempty" doc:"How many of its jobs may be at work at once; absent: any number."`
	HostNetwork bool      `json:"host_network,omitempty" doc:"Its steps may be given a machine's own network, when they ask for it and the runner allows it."`
	Trouble     string    `json:"trouble,omitempty" doc:"Why its latest pushes cannot be planned yet."`
}

// ProjectNetwork says which network a project's steps may be given.
type ProjectNetwork struct {
	Host bool `json:"host" doc:"A machine's own, when a step asks for it and the runner allows it."`
}

// HookKey lets a hook or another service sign the pushes it reports.
type HookKey struct {
	Address string `json:"address" doc:"Where they are reported; a path when the service does not know its own address."`
	Key     string `json:"key" doc:"Standard Webhooks signing secret, beginning with whsec_."`
}

// PushEvent reports changed refs: the data of a Standard Webhooks payload of type push.
type PushEvent struct {
	Type      string    `json:"type" enum:"push"`
	Timestamp time.Time `json:"timestamp" doc:"When the push happened."`
	Data      PushData  `json:"data"`
}

// PushData lists the refs of one push.
type PushData struct {
	Updates []plan.RefUpdate `json:"updates" minItems:"1" maxItems:"1000"`
}

// ProposalEvent reports a change offered for review: the data of a Standard Webhooks payload of type proposal.
type ProposalEvent struct {
	Type      string       `json:"type" enum:"proposal"`
	Timestamp time.Time    `json:"timestamp"`
	Data      ProposalData `json:"data"`
}

// ProposalData is a proposal: its commit is built merged into its target.
type ProposalData struct {
	Proposal string `json:"proposal" doc:"Its name or number."`
	Target   string `json:"target" doc:"The branch it wants into."`
	Commit   string `json:"commit"`
	Ref      string `json:"ref,omitempty" doc:"Where the project's remote has the commit, when no branch or tag leads to it."`
	Inside   bool   `json:"inside,omitempty" doc:"True when it is from somebody who may push to the repository; only then is it trusted."`
}

// Run is one execution of a pipeline for one commit.
type Run struct {
	Project     string              `json:"project"`
	Number      int64               `json:"number" doc:"Per project, from 1."`
	Pipeline    string              `json:"pipeline"`
	Trigger     plan.Trigger        `json:"trigger" enum:"push,tag,proposal,schedule,pipeline,person"`
	Branch      string              `json:"branch,omitempty"`
	Tag         string              `json:"tag,omitempty"`
	Commit      string              `json:"commit"`
	Subject     string              `json:"subject" doc:"First line of the commit message."`
	Author      string              `json:"author"`
	StartedBy   string              `json:"started_by,omitempty" doc:"Who started it by hand."`
	BuildNumber version.BuildNumber `json:"build_number,omitempty" doc:"From the ledger; never issued twice."`
	VersionName string              `json:"version_name,omitempty"`
	State       state.State         `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped,waiting"`
	Reason      string              `json:"reason,omitempty"`
	Queued      time.Time           `json:"queued"`
	Started     *time.Time          `json:"started,omitempty"`
	Finished    *time.Time          `json:"finished,omitempty"`
	FailedAt    string              `json:"failed_at,omitempty" doc:"Job and step that failed first, for lists."`
	Target      string              `json:"target,omitempty" doc:"For a proposal: the branch it wants into."`
	Proposal    string              `json:"proposal,omitempty"`
	Outside     bool                `json:"outside,omitempty" doc:"Of a proposal from outside: it gets no secrets."`
	Schedule    string              `json:"schedule,omitempty" doc:"Name of the schedule that started it."`
	CausedBy    int64               `json:"caused_by,omitempty" doc:"Number of the run whose end or repetition this is."`
	Inputs      map[string]string   `json:"inputs,omitempty" doc:"What was given at the start by hand."`
	Group       string              `json:"group,omitempty" doc:"Runs of one group never overlap."`
}

// RunPage is a page of runs, newest first.
type RunPage struct {
	Runs []Run `json:"runs"`
	Next int64 `json:"next,omitempty" doc:"Pass as before to get the following page; absent on the last."`
}

// RunDetail is a run with all that happened in it.
type RunDetail struct {
	Run
	Findings  []definition.Finding `json:"findings,omitempty" doc:"What is wrong with the pipeline files at this commit."`
	Jobs      []Job                `json:"jobs"`
	Artifacts []Artifact           `json:"artifacts"`
	Failure   *Failure             `json:"failure,omitempty" doc:"What failed first, and the lines that matter."`
	Reported  []Reported           `json:"reported,omitempty" doc:"What failed and changes nothing else, since it is advisory."`
	Now       time.Time            `json:"now" doc:"The server's clock, for spans that are still open."`
}

// Reported is an advisory job or step that failed.
type Reported struct {
	Job    string `json:"job"`
	Step   string `json:"step,omitempty"`
	Reason string `json:"reason"`
}

// ReportedOf lists the advisory jobs and steps that failed.
func ReportedOf(jobs []Job) (list []Reported) {
	failed := func(s state.State) bool { return s == state.Failed || s == state.TimedOut }
	for _, j := range jobs {
		if j.Advisory && failed(j.State) {
			list = append(list, Reported{Job: j.Name, Reason: j.Reason})
		}
		for _, s := range j.Steps {
			if failed(s.State) && s.Advisory && !j.Advisory {
				list = append(list, Reported{Job: j.Name, Step: s.Name, Reason: s.Reason})
			}
		}
	}
	return list
}

// Failure is what a person must know first about a failed run.
type Failure struct {
	Job      string         `json:"job"`
	Step     string         `json:"step,omitempty"`
	StepNo   int            `json:"step_no" doc:"From 0; -1 when the job failed outside its steps."`
	ExitCode *int           `json:"exit_code,omitempty"`
	Reason   string         `json:"reason"`
	Lines    []logline.Line `json:"lines" doc:"First lines that look like errors, or else the last ones."`
	Tests    []FailedCase   `json:"tests,omitempty" doc:"Test cases that failed."`
}

// FailedCase is a failed test case.
type FailedCase struct {
	testreport.Case
}

// Job is the part of a run that needs one machine, with its latest attempt.
type Job struct {
	Name     string            `json:"name"`
	State    state.State       `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped,waiting"`
	Reason   string            `json:"reason,omitempty"`
	After    []string          `json:"after"`
	Machine  []string          `json:"machine"`
	Attempt  int               `json:"attempt" doc:"Number of the latest attempt, from 1."`
	Attempts []AttemptNote     `json:"attempts" doc:"All attempts, oldest first."`
	Runner   string            `json:"runner,omitempty"`
	Queued   *time.Time        `json:"queued,omitempty" doc:"When it could have started."`
	Claimed  *time.Time        `json:"claimed,omitempty"`
	Prepared *time.Time        `json:"prepared,omitempty"`
	Finished *time.Time        `json:"finished,omitempty"`
	Steps    []Step            `json:"steps"`
	Timing   timing.Report     `json:"timing"`
	Caches   []CacheUse        `json:"caches"`
	Tests    *TestSummary      `json:"tests,omitempty"`
	LogLines int64             `json:"log_lines"`
	Of       string            `json:"of,omitempty" doc:"The job as written, when this is one of its variants."`
	Advisory bool              `json:"advisory,omitempty" doc:"Its failure is reported and changes nothing else."`
	Tools    map[string]string `json:"tools,omitempty" doc:"Versions of the tools on the runner, of those the job names."`
	Waiting  string            `json:"waiting,omitempty" doc:"What it waits for, while it is queued."`
}

// AttemptNote tells how an attempt ended.
type AttemptNote struct {
	Number int         `json:"number"`
	State  state.State `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped"`
	Reason string      `json:"reason,omitempty"`
}

// Step is one step of a job's latest attempt.
type Step struct {
	Name      string      `json:"name"`
	State     state.State `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped,reused"`
	Reason    string      `json:"reason,omitempty"`
	ExitCode  *int        `json:"exit_code,omitempty"`
	Started   *time.Time  `json:"started,omitempty"`
	Finished  *time.Time  `json:"finished,omitempty"`
	FirstLine int64       `json:"first_line,omitempty" doc:"Number of its first log line."`
	LastLine  int64       `json:"last_line,omitempty"`
	Advisory  bool        `json:"advisory,omitempty" doc:"Its failure is reported and changes nothing else."`
	Note      string      `json:"note,omitempty" doc:"What the step puts on the run's page, in Markdown (CommonMark, with tables). It is a stranger's: show no HTML and no pictures of it."`
}

// TestSummary counts a job's test cases.
type TestSummary struct {
	Passed   int          `json:"passed"`
	Failed   int          `json:"failed"`
	Skipped  int          `json:"skipped"`
	Seconds  float64      `json:"seconds"`
	Failures []FailedCase `json:"failures,omitempty" doc:"The first 200 failed cases."`
}

// maxFailures is how many failed test cases a job's summary shows.
const maxFailures = 200

// With adds a step's report to a summary; either may be nil.
func (t *TestSummary) With(r *TestReport) *TestSummary {
	if r == nil {
		return t
	}
	if t == nil {
		t = &TestSummary{}
	}
	t.Passed += r.Passed
	t.Failed += r.Failed
	t.Skipped += r.Skipped
	t.Seconds += r.Seconds
	for _, c := range r.Failures {
		if len(t.Failures) < maxFailures {
			t.Failures = append(t.Failures, FailedCase{Case: c})
		}
	}
	return t
}

// CacheUse is what came of one cache in an attempt.
type CacheUse struct {
	Name   string `json:"name"`
	Key    string `json:"key"`
	Hit    bool   `json:"hit"`
	Saved  bool   `json:"saved"`
	Size   int64  `json:"size" doc:"Bytes packed."`
	TookMs int64  `json:"took_ms" doc:"To restore, or to save."`
	Note   string `json:"note,omitempty"`
}

// Artifact is a file a run keeps.
type Artifact struct {
	ID      int64     `json:"id"`
	Job     string    `json:"job"`
	Name    string    `json:"name" doc:"Name of the keep entry."`
	Path    string    `json:"path" doc:"Path in the workspace."`
	Size    int64     `json:"size"`
	SHA256  string    `json:"sha256"`
	Created time.Time `json:"created"`
}

// StartRun starts a pipeline by hand.
type StartRun struct {
	Pipeline string            `json:"pipeline" minLength:"1" maxLength:"64"`
	Ref      string            `json:"ref,omitempty" maxLength:"1024" doc:"Branch, tag or commit; default: the main branch."`
	Inputs   map[string]string `json:"inputs,omitempty" maxProperties:"50" doc:"Values of the pipeline's inputs, as text."`
}

// LogPart is a stretch of a job's log.
type LogPart struct {
	Attempt  int            `json:"attempt"`
	Total    int64          `json:"total" doc:"Lines there are by now."`
	Complete bool           `json:"complete" doc:"No more will come."`
	Lines    []logline.Line `json:"lines"`
}

// Runner is a machine that executes jobs.
type Runner struct {
	Name     string            `json:"name"`
	Labels   []string          `json:"labels"`
	Platform string            `json:"platform"`
	Slots    int               `json:"slots"`
	Busy     int               `json:"busy"`
	Seen     time.Time         `json:"seen"`
	Online   bool              `json:"online"`
	Tools    map[string]string `json:"tools" doc:"Versions of what is installed on it."`
	Version  string            `json:"version,omitempty" doc:"Of its program."`
	Held     string            `json:"held,omitempty" doc:"Why it is handed no more jobs."`
	HeldBy   string            `json:"held_by,omitempty"`
	ClockMs  int64             `json:"clock_ms,omitempty" doc:"What its clock is behind the service's; times it reports are corrected by it."`
}

// Change is an event of the stream: something about a run is different now; read the run to see what.
type Change struct {
	Project string      `json:"project"`
	Run     int64       `json:"run"`
	State   state.State `json:"state"`
}

// LogBatch is an event of the stream: further lines of a job's log.
type LogBatch struct {
	Job     string         `json:"job"`
	Attempt int            `json:"attempt"`
	Lines   []logline.Line `json:"lines"`
}
