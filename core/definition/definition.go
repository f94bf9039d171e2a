// Package definition turns the files of a repository's piston/ folder into checked pipelines.
//
// The format is TOML 1.0 (https://toml.io/en/v1.0.0), read strictly: whatever the format does not know is a
// finding with file, line, column, the offending line and what to do. Parse never panics and never returns a
// pipeline together with an error-level finding. No value of a file is ever spliced into a script's text.
package definition

import (
	"time"

	"gentlepiston.example/piston/core/quantity"
)

// MaxFileSize is the most bytes a pipeline file may have. It is far above any file a person writes.
const MaxFileSize = 1 << 20

// MaxScript is the most bytes a script may have. What is longer is a program, and belongs in a file of its own.
const MaxScript = 64 << 10

// maxDepth and maxValues bound what a file holds, before a parser meets it.
const (
	maxDepth  = 32
	maxValues = 20_000
)

// maxLaidOut bounds the bytes of scripts that parts and variants make of a file.
const maxLaidOut = 8 << 20

// MaxFindings is how many complaints about a file are told; who has mended those may ask again.
const MaxFindings = 100

// Pipeline is what to do on which event: one file of the piston/ folder, with its parts put in and its variants
// laid out.
type Pipeline struct {
	Name string `toml:"-" json:"name"`
	// One line that says what the pipeline is for.
	//
	//	about = "Every push: compile, test and package"
	About string `toml:"about" json:"about,omitempty"`
	// How long a run may take in all, from its first job's start. Jobs without a limit of their own have this one too.
	//
	//	limit = "30m"
	Limit Duration `toml:"limit" json:"limit,omitempty"`
	// Environment variables of every step.
	//
	//	env = { MODE = "release" }
	Env map[string]string `toml:"env" json:"env,omitempty"`
	// Jobs of a higher priority are handed out first; -100 to 100, default 0.
	//
	//	priority = 10
	Priority int `toml:"priority" json:"priority,omitempty"`
	// How many runs of this pipeline may be at work at once. Default: any number.
	//
	//	at_once = 2
	AtOnce int `toml:"at_once" json:"at_once,omitempty"`
	// Of all runs of the project in the same group, one is at work at a time, in the order of their numbers. For what
	// must never overlap, such as releases.
	//
	//	group = "release"
	Group string `toml:"group" json:"group,omitempty"`
	// What a newer push to the same branch does to older runs of this pipeline: "queued" (the default) cancels those
	// that have not begun, "running" also stops those that have, "none" leaves all alone.
	//
	//	supersede = "running"
	Supersede string `toml:"supersede" json:"supersede,omitempty"`
	// Set to true to have the first bad change found when a run of a branch fails after one that passed, and several
	// changes lie between: the job that failed is run at those, by halves, on machines that are free (piston bisect).
	//
	//	bisect = true
	Bisect bool `toml:"bisect" json:"bisect,omitempty"`
	// Codes of findings of piston check that are as they should be in this pipeline; docs/reference/findings.md lists
	// them.
	//
	//	allow = ["debug-build"]
	Allow []string `toml:"allow" json:"allow,omitempty"`
	// Which version name the pipeline builds.
	//
	//	[version]
	//	file = "VERSION"
	Version *Version `toml:"version" json:"version,omitempty"`
	// What starts the pipeline. Without any, only a person does.
	Trigger Trigger `toml:"trigger" json:"trigger"`
	// What a person who starts the pipeline by hand is asked for, by name.
	Input map[string]*Input `toml:"input" json:"input,omitempty"`
	// The jobs, by name. Each runs on one machine; jobs without after start at once, side by side.
	Job map[string]*Job `toml:"job" json:"job"`

	ix *index
}

// Version says where the version name comes from.
type Version struct {
	// A file of the repository whose first line is the version name, such as 1.4.0.
	//
	//	file = "VERSION"
	File string `toml:"file" json:"file"`
}

// The values of Supersede.
const (
	SupersedeQueued  = "queued"
	SupersedeRunning = "running"
	SupersedeNone    = "none"
)

// Duration is a span of time as written in a file: a number with a unit, such as "90s", "30m", "1h30m" or "3d".
type Duration string

// Value returns the span; zero for an absent one. Parse has checked the text before.
func (d Duration) Value() time.Duration {
	v, err := quantity.ParseSpan(string(d))
	if err != nil {
		return 0
	}
	return v
}

// DefaultLimit bounds a job that sets no limit, so that a hung one cannot hold a runner for ever.
const DefaultLimit = Duration("1h")

// DefaultMachine is the label set of a job that names none.
const DefaultMachine = "linux"
