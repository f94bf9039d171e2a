package api

import (
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/timing"
)

// TimesFilter says of which runs times are told.
type TimesFilter struct {
	Pipeline string `query:"pipeline" doc:"Of this pipeline; without it of the one that ran last"`
	Branch   string `query:"branch" doc:"Only runs of this branch"`
	Limit    int    `query:"limit" minimum:"1" maximum:"500" default:"120" doc:"Of so many runs, the last ones"`
}

// Times says where the time of a pipeline's runs went.
type Times struct {
	Pipeline string `json:"pipeline"`
	// Pipelines of the project whose runs have a history.
	Pipelines []string `json:"pipelines"`
	// Oldest first.
	Runs []TimedRun `json:"runs"`
	// Those that took most in all first.
	Steps []TimedStep `json:"steps"`
	// Where so, the runs were set back in time, for show.
	SetBack bool `json:"set_back,omitempty"`
}

// TimedRun is what a run took. Times are in milliseconds.
type TimedRun struct {
	Run     record.RunNumber `json:"run"`
	State   string           `json:"state"`
	Branch  string           `json:"branch,omitempty"`
	Commit  string           `json:"commit"`
	Subject string           `json:"subject"`
	At      time.Time        `json:"at"`
	// From queued to its end, by the clock.
	Total int64 `json:"total_ms"`
	// Of all jobs together: waits for machines, preparation, and what comes after the steps.
	Waited   int64 `json:"waited_ms"`
	Prepared int64 `json:"prepared_ms"`
	Wrapped  int64 `json:"wrapped_ms"`
	// What each of the steps took, in their order.
	Steps []int64 `json:"steps_ms"`
	// Caches that were found, and that were not.
	Hits   int `json:"hits"`
	Misses int `json:"misses"`
	// Names of the releases it made.
	Release string `json:"release,omitempty"`
	// Tools that are of another version than in the run before.
	Tools []Difference `json:"tools,omitempty"`
}

// TimedStep is how long a step takes. Times are in milliseconds, and of runs in which it passed.
type TimedStep struct {
	Job  string `json:"job"`
	Step string `json:"step"`
	// The platform of the runner and the labels that were asked for.
	Machine string `json:"machine"`
	Runs    int    `json:"runs"`
	// The middle value, and what a quarter of the runs are below and above.
	Median int64 `json:"median_ms"`
	Low    int64 `json:"low_ms"`
	High   int64 `json:"high_ms"`
	Most   int64 `json:"most_ms"`
	// In which run it began to take longer or less, oldest first.
	Changes []TimedChange `json:"changes,omitempty"`
}

// TimedChange is where a step began to take longer, or less.
type TimedChange struct {
	Run record.RunNumber `json:"run"`
	// The first and the last run that it may have begun with as well: times alone do not tell which, and what changed
	// is told of all of them.
	First record.RunNumber `json:"first"`
	Last  record.RunNumber `json:"last"`
	// The last run before the first of them in which the step passed.
	After   record.RunNumber `json:"after"`
	Before  int64            `json:"before_ms"`
	Now     int64            `json:"now_ms"`
	Commit  string           `json:"commit"`
	Subject string           `json:"subject"`
	Author  string           `json:"author,omitempty"`
}

// StepFilter names a step of a pipeline.
type StepFilter struct {
	TimesFilter
	Job     string `query:"job" required:"true" doc:"The step's job"`
	Step    string `query:"step" required:"true" doc:"The step's name"`
	Machine string `query:"machine" doc:"Only on this kind of machine, as times of the pipeline name it"`
}

// StepTimes is the history of one step.
type StepTimes struct {
	TimedStep
	// What it took, run by run, oldest first; of all attempts of a run the last.
	Series []StepTime `json:"series"`
	// How often it took how long: bars of the same width.
	Bars []TimeBar `json:"bars"`
	// For each change, what else was different in that run.
	What []ChangedThere `json:"what"`
}

// ChangedThere is what else was different where a step's time changed.
type ChangedThere struct {
	TimedChange
	Since Since `json:"since"`
}

// StepTime is what a step took once.
type StepTime struct {
	Run     record.RunNumber `json:"run"`
	At      time.Time        `json:"at"`
	State   string           `json:"state"`
	Took    int64            `json:"took_ms"`
	Commit  string           `json:"commit"`
	Subject string           `json:"subject"`
}

// TimeBar is a bar of a histogram.
type TimeBar struct {
	From int64 `json:"from_ms"`
	To   int64 `json:"to_ms"`
	N    int   `json:"n"`
}

// RunTimes is where a run's time went, what would have made it shorter, and which steps were slower than usual.
type RunTimes struct {
	// The stretches of which each had to end before the next could begin.
	Critical []timing.Stretch `json:"critical"`
	// Found by replaying the run with one thing changed; the most first.
	Shorter []timing.Shorter `json:"shorter"`
	Slower  []SlowerStep     `json:"slower"`
}

// SlowerStep is a step that took longer than usual.
type SlowerStep struct {
	Job   string `json:"job"`
	Step  string `json:"step"`
	Took  int64  `json:"took_ms"`
	Usual int64  `json:"usual_ms"`
	// The first run in which it was so, and how many are meanwhile.
	SinceRun record.RunNumber `json:"since_run"`
	Runs     int              `json:"runs"`
	// The first and the last run that it may have begun with as well.
	First record.RunNumber `json:"first"`
	Last  record.RunNumber `json:"last"`
	// What was different in those runs.
	Since Since `json:"since"`
}
