// Package api holds the JSON shapes of the HTTP interface, shared by server, client, runner and command line.
// Times are RFC 3339 in UTC; spans are milliseconds; sizes are bytes; digests are lower-case hexadecimal SHA-256.
package api

import (
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/core/timing"
	"gentlepiston.example/piston/core/version"
)

// NewProject registers a source repository.
type NewProject struct {
	// Short name used in addresses and commands.
	Name string `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,62}$"`
	// Where the repository is: a folder on the server's machine, or an https address.
	Remote string `json:"remote" minLength:"1" maxLength:"2000"`
}

// Lendings are the projects whose jobs may read a project's source, as submodules.
type Lendings struct {
	To []string `json:"to" maxItems:"100"`
}

// Project is a registered repository.
type Project struct {
	Name    string    `json:"name"`
	Remote  string    `json:"remote"`
	Created time.Time `json:"created"`
	// Its latest run.
	Latest *Run `json:"latest,omitempty"`
	// Why no job of it is handed out.
	Held   string `json:"held,omitempty"`
	HeldBy string `json:"held_by,omitempty"`
	// How many of its jobs may be at work at once; absent: any number.
	AtOnce int `json:"at_once,omitempty"`
	// Its steps may be given a machine's own network, when they ask for it and the runner allows it.
	HostNetwork bool `json:"host_network,omitempty"`
	// Why its latest pushes cannot be planned yet.
	Trouble string `json:"trouble,omitempty"`
	Bot     Bot    `json:"bot"`
}

// Bot is who commits what a project's runs land, and how that is pushed.
type Bot struct {
	// Default: Piston.
	Name string `json:"name,omitempty" maxLength:"100"`
	// Default: piston@PROJECT.invalid.
	Email string `json:"email,omitempty" maxLength:"200"`
	// Where pushes go, by ssh, when the repository is read by https; on the same host. Default: where it is read from.
	PushTo string `json:"push_to,omitempty" maxLength:"500"`
	// The key of that host, as ssh-keyscan prints it: HOST TYPE KEY.
	PushHost string `json:"push_host,omitempty" maxLength:"2000"`
}

// ProjectNetwork says which network a project's steps may be given.
type ProjectNetwork struct {
	// A machine's own, when a step asks for it and the runner allows it.
	Host bool `json:"host"`
}

// HookKey lets a hook or another service sign the pushes it reports.
type HookKey struct {
	// Where they are reported; a path when the service does not know its own address.
	Address string `json:"address"`
	// Standard Webhooks signing secret, beginning with whsec_.
	Key string `json:"key"`
}

// PushEvent reports changed refs: the data of a Standard Webhooks payload of type push.
type PushEvent struct {
	Type string `json:"type" enum:"push"`
	// When the push happened.
	Timestamp time.Time `json:"timestamp"`
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
	// Its name or number.
	Proposal string `json:"proposal"`
	// The branch it wants into.
	Target string `json:"target"`
	Commit string `json:"commit"`
	// Where the project's remote has the commit, when no branch or tag leads to it.
	Ref string `json:"ref,omitempty"`
	// True when it is from somebody who may push to the repository; only then is it trusted.
	Inside bool `json:"inside,omitempty"`
}

// Run is one execution of a pipeline for one commit.
type Run struct {
	Project string `json:"project"`
	// Per project, from 1.
	Number   record.RunNumber `json:"number"`
	Pipeline string           `json:"pipeline"`
	Trigger  plan.Trigger     `json:"trigger" enum:"push,tag,proposal,schedule,pipeline,person,bisection"`
	Branch   string           `json:"branch,omitempty"`
	Tag      string           `json:"tag,omitempty"`
	Commit   string           `json:"commit"`
	// First line of the commit message.
	Subject string `json:"subject"`
	Author  string `json:"author"`
	// Who started it by hand.
	StartedBy string `json:"started_by,omitempty"`
	// From the ledger; never issued twice.
	BuildNumber version.BuildNumber `json:"build_number,omitempty"`
	VersionName string              `json:"version_name,omitempty"`
	State       state.State         `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped,waiting"`
	Reason      string              `json:"reason,omitempty"`
	Queued      time.Time           `json:"queued"`
	Started     *time.Time          `json:"started,omitempty"`
	Finished    *time.Time          `json:"finished,omitempty"`
	// Job and step that failed first, for lists.
	FailedAt string `json:"failed_at,omitempty"`
	// For a proposal: the branch it wants into.
	Target   string `json:"target,omitempty"`
	Proposal string `json:"proposal,omitempty"`
	// Of a proposal from outside: it gets no secrets.
	Outside bool `json:"outside,omitempty"`
	// Name of the schedule that started it.
	Schedule string `json:"schedule,omitempty"`
	// Number of the run whose end or repetition this is.
	CausedBy record.RunNumber `json:"caused_by,omitempty"`
	// What was given at the start by hand.
	Inputs map[string]string `json:"inputs,omitempty"`
	// Runs of one group never overlap.
	Group string `json:"group,omitempty"`
}

// RunPage is a page of runs, newest first.
type RunPage struct {
	Runs []Run `json:"runs"`
	// Pass as before to get the following page; absent on the last.
	Next record.RunNumber `json:"next,omitempty"`
}

// RunDetail is a run with all that happened in it.
type RunDetail struct {
	Run
	// What is wrong with the pipeline files at this commit.
	Findings  []definition.Finding `json:"findings,omitempty"`
	Jobs      []Job                `json:"jobs"`
	Artifacts []Artifact           `json:"artifacts"`
	// What failed first, and the lines that matter.
	Failure *Failure `json:"failure,omitempty"`
	// What failed and changes nothing else, since it is advisory.
	Reported []Reported `json:"reported,omitempty"`
	// The server's clock, for spans that are still open.
	Now time.Time `json:"now"`
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
	Job  string `json:"job"`
	Step string `json:"step,omitempty"`
	// From 0; -1 when the job failed outside its steps.
	StepNo   int    `json:"step_no"`
	ExitCode *int   `json:"exit_code,omitempty"`
	Reason   string `json:"reason"`
	// First lines that look like errors, or else the last ones.
	Lines []logline.Line `json:"lines"`
	// Test cases that failed.
	Tests []FailedCase `json:"tests,omitempty"`
	// Why it failed, where that is known.
	Cause *FailureCause `json:"cause,omitempty"`
	// How often the same was seen before; absent: never.
	Seen *FailureSeen `json:"seen,omitempty"`
}

// FailedCase is a failed test case.
type FailedCase struct {
	testreport.Case
}

// Job is the part of a run that needs one machine, or people, with its latest attempt.
type Job struct {
	Name    string      `json:"name"`
	State   state.State `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped,waiting"`
	Reason  string      `json:"reason,omitempty"`
	After   []string    `json:"after"`
	Machine []string    `json:"machine"`
	// Number of the latest attempt, from 1.
	Attempt int `json:"attempt"`
	// All attempts, oldest first.
	Attempts []AttemptNote `json:"attempts"`
	Runner   string        `json:"runner,omitempty"`
	// When it could have started.
	Queued   *time.Time    `json:"queued,omitempty"`
	Claimed  *time.Time    `json:"claimed,omitempty"`
	Prepared *time.Time    `json:"prepared,omitempty"`
	Finished *time.Time    `json:"finished,omitempty"`
	Steps    []Step        `json:"steps"`
	Timing   timing.Report `json:"timing"`
	Caches   []CacheUse    `json:"caches"`
	Tests    *TestSummary  `json:"tests,omitempty"`
	LogLines int64         `json:"log_lines"`
	// The job as written, when this is one of its variants.
	Of string `json:"of,omitempty"`
	// Its failure is reported and changes nothing else.
	Advisory bool `json:"advisory,omitempty"`
	// Versions of the tools on the runner, of those the job names.
	Tools map[string]string `json:"tools,omitempty"`
	// What it waits for, while it is queued.
	Waiting string `json:"waiting,omitempty"`
	// What people are asked, or were, when the job is a gate.
	Gate *Gate `json:"gate,omitempty"`
}

// AttemptNote tells how an attempt ended.
type AttemptNote struct {
	Number int         `json:"number"`
	State  state.State `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped"`
	Reason string      `json:"reason,omitempty"`
}

// Step is one step of a job's latest attempt.
type Step struct {
	Name     string      `json:"name"`
	State    state.State `json:"state" enum:"queued,running,passed,failed,cancelled,timed-out,skipped,reused"`
	Reason   string      `json:"reason,omitempty"`
	ExitCode *int        `json:"exit_code,omitempty"`
	Started  *time.Time  `json:"started,omitempty"`
	Finished *time.Time  `json:"finished,omitempty"`
	// Number of its first log line.
	FirstLine int64 `json:"first_line,omitempty"`
	LastLine  int64 `json:"last_line,omitempty"`
	// Its failure is reported and changes nothing else.
	Advisory bool `json:"advisory,omitempty"`
	// What the step puts on the run's page, in Markdown (CommonMark, with tables). It is a stranger's: show no HTML
	// and no pictures of it.
	Note string `json:"note,omitempty"`
	// Of a step with inputs: why it was reused, or was not.
	Reuse *Reuse `json:"reuse,omitempty"`
}

// TestSummary counts a job's test cases.
type TestSummary struct {
	Passed  int     `json:"passed"`
	Failed  int     `json:"failed"`
	Skipped int     `json:"skipped"`
	Seconds float64 `json:"seconds"`
	// The first 200 failed cases.
	Failures []FailedCase `json:"failures,omitempty"`
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
	Name string `json:"name"`
	Key  string `json:"key"`
	// What fits was restored.
	Hit bool `json:"hit"`
	// What is nearest to it was.
	Nearest bool `json:"nearest,omitempty"`
	// The run that has saved what was restored, and its branch or proposal.
	Run  record.RunNumber `json:"run,omitempty"`
	Line string           `json:"line,omitempty"`
	// Of the files that the cache follows, those that differ from the nearest.
	Differs []string `json:"differs,omitempty" maxItems:"1000"`
	// The runner had it already.
	Here  bool `json:"here,omitempty"`
	Saved bool `json:"saved"`
	// Bytes of its files.
	Size int64 `json:"size"`
	// Bytes that saving it has added to what is stored.
	Stored int64 `json:"stored,omitempty"`
	// To restore, or to save.
	TookMs int64  `json:"took_ms"`
	Note   string `json:"note,omitempty"`
}

// Artifact is a file a run keeps.
type Artifact struct {
	ID  record.ArtifactID `json:"id"`
	Job string            `json:"job"`
	// Name of the keep entry.
	Name string `json:"name"`
	// Path in the workspace.
	Path    string    `json:"path"`
	Size    int64     `json:"size"`
	SHA256  string    `json:"sha256"`
	Created time.Time `json:"created"`
}

// StartRun starts a pipeline by hand.
type StartRun struct {
	Pipeline string `json:"pipeline" minLength:"1" maxLength:"64"`
	// Branch, tag or commit; default: the main branch.
	Ref string `json:"ref,omitempty" maxLength:"1024"`
	// Values of the pipeline's inputs, as text.
	Inputs map[string]string `json:"inputs,omitempty" maxProperties:"50"`
	// Restore no cache and reuse no step.
	Fresh bool `json:"fresh,omitempty"`
	// Run steps that could be reused, and compare what they make with what they made before.
	Audit bool `json:"audit,omitempty"`
}

// LogPart is a stretch of a job's log.
type LogPart struct {
	Attempt int `json:"attempt"`
	// Lines there are by now.
	Total int64 `json:"total"`
	// No more will come.
	Complete bool           `json:"complete"`
	Lines    []logline.Line `json:"lines"`
}

// Runner is a machine that executes jobs.
type Runner struct {
	Name     string    `json:"name"`
	Labels   []string  `json:"labels"`
	Platform string    `json:"platform"`
	Slots    int       `json:"slots"`
	Busy     int       `json:"busy"`
	Seen     time.Time `json:"seen"`
	Online   bool      `json:"online"`
	// Versions of what is installed on it.
	Tools map[string]string `json:"tools"`
	// Of its program.
	Version string `json:"version,omitempty"`
	// Why it is handed no more jobs.
	Held   string `json:"held,omitempty"`
	HeldBy string `json:"held_by,omitempty"`
	// What its clock is behind the service's; times it reports are corrected by it.
	ClockMs int64 `json:"clock_ms,omitempty"`
}

// Change is an event of the stream: something about a run is different now; read the run to see what.
type Change struct {
	Project string           `json:"project"`
	Run     record.RunNumber `json:"run"`
	State   state.State      `json:"state"`
}

// LogBatch is an event of the stream: further lines of a job's log.
type LogBatch struct {
	Job     string         `json:"job"`
	Attempt int            `json:"attempt"`
	Lines   []logline.Line `json:"lines"`
}
