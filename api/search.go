package api

import (
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// LogSearch says what is looked for in logs.
type LogSearch struct {
	For     string           `query:"for" required:"true" maxLength:"500" doc:"Text, in capitals or not"`
	Pattern bool             `query:"pattern" doc:"It is a pattern (RE2)"`
	Run     record.RunNumber `query:"run" minimum:"0" doc:"Only in this run"`
	Job     string           `query:"job" maxLength:"400" doc:"Only in this job"`
	After   string           `query:"after" maxLength:"60" doc:"Go on: next of the answer before"`
	Limit   int              `query:"limit" minimum:"1" maximum:"500" default:"100" doc:"At most so many lines"`
}

// LogFound is what was found in logs, the latest runs first.
type LogFound struct {
	Hits []LogHit `json:"hits"`
	// How many logs were looked through to their end.
	Looked int `json:"looked"`
	// From where to go on: a request looks for a short while. Absent: all was looked through.
	Next string `json:"next,omitempty"`
}

// LogHit is a line of a log.
type LogHit struct {
	Run      record.RunNumber `json:"run"`
	Pipeline string           `json:"pipeline"`
	Job      string           `json:"job"`
	Attempt  int              `json:"attempt"`
	Line     logline.Line     `json:"line"`
}

// LogComparison is in what the log of a job differs between two runs, but for times, hashes and the like.
type LogComparison struct {
	Was LogSide `json:"was"`
	Is  LogSide `json:"is"`
	// How many lines differ.
	Different int             `json:"different"`
	Parts     []LogDifference `json:"parts"`
	// There was no time to find the least that differs.
	Rough bool `json:"rough,omitempty"`
	// More differs than is shown.
	More bool `json:"more,omitempty"`
}

// LogSide is one of two logs.
type LogSide struct {
	Run     record.RunNumber `json:"run"`
	Job     string           `json:"job"`
	Attempt int              `json:"attempt"`
	State   state.State      `json:"state"`
	Lines   int64            `json:"lines"`
	// The first line that was compared: of a very long log only its end is.
	From int64 `json:"from"`
}

// LogDifference is a stretch of both logs, in their order. Of one that is the same, only the lines beside a difference
// are there.
type LogDifference struct {
	Same bool           `json:"same"`
	Was  []logline.Line `json:"was"`
	Is   []logline.Line `json:"is"`
	// So many lines are the same and left out.
	Hidden int `json:"hidden,omitempty"`
}
