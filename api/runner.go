package api

import (
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
)

// ClaimRequest says who asks for work and what it can do.
type ClaimRequest struct {
	Runner string   `json:"runner" pattern:"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$"`
	Labels []string `json:"labels" minItems:"1" maxItems:"100"`
	// Such as linux/amd64.
	Platform string `json:"platform" maxLength:"64"`
	Slots    int    `json:"slots" minimum:"1" maximum:"1000"`
	// age X25519 recipient the job's secrets are sealed to.
	Recipient string `json:"recipient" maxLength:"200"`
	// How long to wait for work.
	WaitMs int `json:"wait_ms" minimum:"0" maximum:"60000"`
	// Versions of the tools that are installed; empty for one whose version it cannot tell.
	Tools map[string]string `json:"tools,omitempty" maxProperties:"500"`
	// Names of tools it has looked for in vain.
	Lacks []string `json:"lacks,omitempty" maxItems:"500"`
	// Which runner this is: the same for as long as its folder is. Two of one name are told apart by it.
	Instance string `json:"instance,omitempty" maxLength:"64"`
	// Of the program.
	Version string `json:"version,omitempty" maxLength:"100"`
	// Of this interface; absent is 1.
	Protocol int `json:"protocol,omitempty" minimum:"0" maximum:"1000"`
	// What its machine is like just now.
	Host *RunnerHost `json:"host,omitempty"`
	// Its clock, in milliseconds since 1970; what that is off is corrected in what it reports.
	Now int64 `json:"now,omitempty"`
}

// RunnerProtocol is what runners of this version speak; LeastRunnerProtocol what the oldest may that the service
// serves: one that does not know what a step is to do must not be given it.
const (
	RunnerProtocol      = 8
	LeastRunnerProtocol = 7
)

// Claimed is the answer to a claim: a job, or names of tools that jobs ask for and this runner has not looked for yet.
type Claimed struct {
	// Absent when there is nothing to do.
	Work *Work `json:"work,omitempty"`
	// Tools to look for before the next claim, which then tells of them in tools or lacks.
	LookFor []string `json:"look_for,omitempty"`
}

// HandBack gives an attempt back: its runner is being ended.
type HandBack struct {
	Reason string `json:"reason" maxLength:"4000"`
}

// Work is one attempt of a job, handed to the runner that claimed it.
type Work struct {
	// Id of the attempt; every report carries it.
	Attempt record.AttemptID `json:"attempt"`
	// Number of the attempt, from 1.
	Number   int              `json:"number"`
	Project  string           `json:"project"`
	Run      record.RunNumber `json:"run"`
	Pipeline string           `json:"pipeline"`
	Job      *definition.Job  `json:"job"`
	Commit   string           `json:"commit"`
	Ref      string           `json:"ref"`
	// The project's own remote, against which relative submodule addresses resolve.
	Remote string `json:"remote"`
	// Remotes the server serves: remote = path below the server's address.
	Sources map[string]string `json:"sources"`
	// Its commit is the project's own: other jobs of own branches may see its files.
	Own bool `json:"own,omitempty"`
	// Variables of the pipeline and of the service.
	Env map[string]string `json:"env"`
	// SealedSecrets as JSON, age-encrypted to the runner.
	Secrets []byte `json:"secrets,omitempty"`
	// Without a beat for so long the attempt is lost.
	LeaseMs     int               `json:"lease_ms"`
	SecretKinds map[string]string `json:"secret_kinds,omitempty"`
	// Which values of the secrets they are: a new one has the next number.
	SecretRevisions map[string]int `json:"secret_revisions,omitempty"`
	// Nothing is restored and no step reused: everything is done anew.
	Fresh bool `json:"fresh,omitempty"`
	// The trace that its steps belong to (W3C Trace Context).
	Trace string `json:"trace,omitempty"`
	// Steps that could be reused run all the same, and what they make is compared.
	Audit bool `json:"audit,omitempty"`
	// Its caches are those of runs that are given the same protected secrets.
	CachesApart bool `json:"caches_apart,omitempty"`
	// Its steps may be given the machine's own network, when they ask for it and the runner allows it.
	HostNetwork bool `json:"host_network,omitempty"`
	// What to fetch from earlier jobs, each as JOB/NAME.
	Takes []string `json:"takes,omitempty"`
	// The versions that jobs before it have raised: its files are to say the same.
	Raised []Raised `json:"raised,omitempty"`
}

// SealedSecrets are the values a job's steps ask for.
type SealedSecrets map[string][]byte

// Beat answers a runner's sign of life.
type Beat struct {
	// End the job now.
	Stop bool `json:"stop"`
	// How it then ends.
	State  state.State `json:"state,omitempty" enum:"cancelled,timed-out"`
	Reason string      `json:"reason,omitempty"`
}

// StepReport tells that a step began or ended.
type StepReport struct {
	// Its place in the job, from 0.
	Step  int         `json:"step" minimum:"0"`
	State state.State `json:"state" enum:"running,passed,failed,cancelled,timed-out,skipped,reused"`
	// When, in milliseconds since 1970 (UTC).
	At        int64          `json:"at"`
	ExitCode  *int           `json:"exit_code,omitempty"`
	Reason    string         `json:"reason,omitempty" maxLength:"4000"`
	FirstLine int64          `json:"first_line"`
	LastLine  int64          `json:"last_line"`
	Excerpt   []logline.Line `json:"excerpt,omitempty" maxItems:"100"`
	Tests     *TestReport    `json:"tests,omitempty"`
	// Markdown for the run's page.
	Note string `json:"note,omitempty" maxLength:"66000"`
	// Of a step with inputs.
	Reuse *Reuse `json:"reuse,omitempty"`
}

// Reuse tells why a step was reused, or was not.
type Reuse struct {
	// What stands for all that the step depends on.
	Imprint string `json:"imprint"`
	// The run that has made what was reused; without that, the nearest that was compared with. 0 when there is none.
	Run record.RunNumber `json:"run,omitempty"`
	// How long it took then, in milliseconds; 0 when it was not reused.
	TookMs int64 `json:"took_ms,omitempty"`
	// What differs from the nearest: files, variables, tools, secrets.
	Differs []string `json:"differs,omitempty" maxItems:"1000"`
	// How many more differ.
	More int `json:"more,omitempty"`
	// Of an audit: what came out otherwise than the last time.
	Unlike string `json:"unlike,omitempty" maxLength:"1000"`
}

// TestReport is what a step's test reports came to.
type TestReport struct {
	Passed   int               `json:"passed"`
	Failed   int               `json:"failed"`
	Skipped  int               `json:"skipped"`
	Seconds  float64           `json:"seconds"`
	Failures []testreport.Case `json:"failures" maxItems:"200"`
}

// Prepared tells that checkout and caches are there.
type Prepared struct {
	At     int64      `json:"at"`
	Caches []CacheUse `json:"caches"`
}

// Finish ends an attempt.
type Finish struct {
	State  state.State `json:"state" enum:"passed,failed,cancelled,timed-out"`
	Reason string      `json:"reason,omitempty" maxLength:"4000"`
	At     int64       `json:"at"`
	// Lines of its log in all.
	Lines  int64      `json:"lines"`
	Caches []CacheUse `json:"caches"`
}

// RunnerHost is what a runner's machine is like.
type RunnerHost struct {
	// How many processes were at work or waited for a processor, over the last minute (getloadavg(3)).
	Load float64 `json:"load" minimum:"0" maximum:"100000"`
	// Its processors.
	CPUs int `json:"cpus" minimum:"0" maximum:"10000"`
	// Bytes of memory, and those that programs could be given.
	Memory     int64 `json:"memory" minimum:"0"`
	MemoryFree int64 `json:"memory_free" minimum:"0"`
	// Bytes of the disk that jobs work on, and those that are free.
	Disk     int64 `json:"disk" minimum:"0"`
	DiskFree int64 `json:"disk_free" minimum:"0"`
}

// RunnerDetail is a runner with what it did.
type RunnerDetail struct {
	Runner
	// As it last said itself; absent when it has not.
	Host *RunnerHost `json:"host,omitempty"`
	// What it is at, and did, the latest first.
	Did []RunnerDid `json:"did"`
}

// RunnerDid is a job that a runner is at, or did.
type RunnerDid struct {
	Project string           `json:"project"`
	Run     record.RunNumber `json:"run"`
	Job     string           `json:"job"`
	Attempt int              `json:"attempt"`
	State   state.State      `json:"state"`
	Reason  string           `json:"reason,omitempty"`
	Claimed time.Time        `json:"claimed_at"`
	// How long it took, or has taken so far.
	Took int64 `json:"took_ms"`
}

// DidFilter narrows what a runner did.
type DidFilter struct {
	// Only what it was given before this time: the last one's of a page before.
	Before time.Time `query:"before"`
	Limit  int       `query:"limit" minimum:"1" maximum:"200" default:"50"`
}
