package api

import (
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
)

// ClaimRequest says who asks for work and what it can do.
type ClaimRequest struct {
	Runner    string            `json:"runner" pattern:"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$"`
	Labels    []string          `json:"labels" minItems:"1" maxItems:"100"`
	Platform  string            `json:"platform" maxLength:"64" doc:"Such as linux/amd64."`
	Slots     int               `json:"slots" minimum:"1" maximum:"1000"`
	Recipient string            `json:"recipient" maxLength:"200" doc:"age X25519 recipient the job's secrets are sealed to."`
	WaitMs    int               `json:"wait_ms" minimum:"0" maximum:"60000" doc:"How long to wait for work."`
	Tools     map[string]string `json:"tools,omitempty" maxProperties:"500" doc:"Versions of the tools that are installed; empty for one whose version it cannot tell."`
	Lacks     []string          `json:"lacks,omitempty" maxItems:"500" doc:"Names of tools it has looked for in vain."`
	Instance  string            `json:"instance,omitempty" maxLength:"64" doc:"Which runner this is: the same for as long as its folder is. Two of one name are told apart by it."`
	Version   string            `json:"version,omitempty" maxLength:"100" doc:"Of the program."`
	Protocol  int               `json:"protocol,omitempty" minimum:"0" maximum:"1000" doc:"Of this interface; absent is 1."`
	Now       int64             `json:"now,omitempty" doc:"Its clock, in milliseconds since 1970; what that is off is corrected in what it reports."`
}

// RunnerProtocol is what runners of this version speak; LeastRunnerProtocol what the oldest may that the service
// serves: one that does not know what a step is to do must not be given it.
const (
	RunnerProtocol      = 4
	LeastRunnerProtocol = 4
)

// Claimed is the answer to a claim: a job, or names of tools that jobs ask for and this runner has not looked for yet.
type Claimed struct {
	Work    *Work    `json:"work,omitempty" doc:"Absent when there is nothing to do."`
	LookFor []string `json:"look_for,omitempty" doc:"Tools to look for before the next claim, which then tells of them in tools or lacks."`
}

// HandBack gives an attempt back: its runner is being ended.
type HandBack struct {
	Reason string `json:"reason" maxLength:"4000"`
}

// Work is one attempt of a job, handed to the runner that claimed it.
type Work struct {
	Attempt     int64             `json:"attempt" doc:"Id of the attempt; every report carries it."`
	Number      int               `json:"number" doc:"Number of the attempt, from 1."`
	Project     string            `json:"project"`
	Run         int64             `json:"run"`
	Pipeline    string            `json:"pipeline"`
	Job         *definition.Job   `json:"job"`
	Commit      string            `json:"commit"`
	Ref         string            `json:"ref"`
	Remote      string            `json:"remote" doc:"The project's own remote, against which relative submodule addresses resolve."`
	Sources     map[string]string `json:"sources" doc:"Remotes the server serves: remote = path below the server's address."`
	Env         map[string]string `json:"env" doc:"Variables of the pipeline and of the service."`
	Secrets     []byte            `json:"secrets,omitempty" doc:"SealedSecrets as JSON, age-encrypted to the runner."`
	LeaseMs     int               `json:"lease_ms" doc:"Without a beat for so long the attempt is lost."`
	SecretKinds map[string]string `json:"secret_kinds,omitempty"`
	CachesApart bool              `json:"caches_apart,omitempty" doc:"Its caches are those of runs that are given the same protected secrets."`
	HostNetwork bool              `json:"host_network,omitempty" doc:"Its steps may be given the machine's own network, when they ask for it and the runner allows it."`
	Takes       []string          `json:"takes,omitempty" doc:"What to fetch from earlier jobs, each as JOB/NAME."`
}

// SealedSecrets are the values a job's steps ask for.
type SealedSecrets map[string][]byte

// Beat answers a runner's sign of life.
type Beat struct {
	Stop   bool        `json:"stop" doc:"End the job now."`
	State  state.State `json:"state,omitempty" enum:"cancelled,timed-out" doc:"How it then ends."`
	Reason string      `json:"reason,omitempty"`
}

// StepReport tells that a step began or ended.
type StepReport struct {
	Step      int            `json:"step" minimum:"0" doc:"Its place in the job, from 0."`
	State     state.State    `json:"state" enum:"running,passed,failed,cancelled,timed-out,skipped"`
	At        int64          `json:"at" doc:"When, in milliseconds since 1970 (UTC)."`
	ExitCode  *int           `json:"exit_code,omitempty"`
	Reason    string         `json:"reason,omitempty" maxLength:"4000"`
	FirstLine int64          `json:"first_line"`
	LastLine  int64          `json:"last_line"`
	Excerpt   []logline.Line `json:"excerpt,omitempty" maxItems:"100"`
	Tests     *TestReport    `json:"tests,omitempty"`
	Note      string         `json:"note,omitempty" maxLength:"66000" doc:"Markdown for the run's page."`
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
	Lines  int64       `json:"lines" doc:"Lines of its log in all."`
	Caches []CacheUse  `json:"caches"`
}
