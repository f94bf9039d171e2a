package api

import (
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// The longest that a workspace stays, in minutes, and how long a shell may be left alone in it.
const (
	MaxStayMinutes   = 480
	ShellIdleMinutes = 10
)

// StayState says how a workspace that stays stands.
type StayState string

// The states of a workspace that stays.
const (
	StayAsked StayState = "asked" // its job is still at work
	StayStays StayState = "stays"
	StayOver  StayState = "over"
)

// Stay is a workspace that stays on its machine after its job has ended, so that one can look around in it.
type Stay struct {
	Project string           `json:"project"`
	Run     record.RunNumber `json:"run"`
	Job     string           `json:"job"`
	// Which of the job's attempts it is of.
	Attempt int         `json:"attempt"`
	Ended   state.State `json:"ended"` // how that ended
	Runner  string      `json:"runner"`
	State   StayState   `json:"state"`
	// How long, from the job's end on; until when, once it has ended.
	Minutes int        `json:"minutes"`
	Until   *time.Time `json:"until,omitempty"`
	// Who has asked for it; "" its pipeline.
	By string `json:"by,omitempty"`
	// Why it is over.
	Why string `json:"why,omitempty"`
	// Shells that are open in it.
	Shells int `json:"shells"`
}

// NewStay is for how long a workspace is to stay: from its job's end on, or if that has ended, from now on.
type NewStay struct {
	Minutes int `json:"minutes" minimum:"1" maximum:"480"`
}

// StayFilter narrows the list of workspaces that stay.
type StayFilter struct {
	// Only those on this runner.
	Runner string `query:"runner" maxLength:"63"`
	// Only those of this project.
	Project string `query:"project" maxLength:"63"`
	// Those that are over, too.
	Over  bool `query:"over"`
	Limit int  `query:"limit" minimum:"1" maximum:"500" default:"100"`
}

// ShellKind says what is done in a workspace that stays.
type ShellKind string

// The kinds.
const (
	ShellShell ShellKind = "shell" // a shell, or one command
	ShellFiles ShellKind = "files" // files are taken out
)

// NewShell asks for a way into a workspace that stays.
type NewShell struct {
	Kind ShellKind
	// A terminal, of so many columns and rows; else what is typed is read from a pipe.
	Terminal   bool
	Cols, Rows int
	// What is run; "" a shell.
	Command string
	// What is taken out: a file or folder below the workspace.
	Path string
	// Secrets that are wanted, of those that the job's step may have. A keeper has to grant them.
	Secrets []string
}

// Shell is a way into a workspace that somebody has asked for.
type Shell struct {
	ID   record.ShellID   `json:"id"`
	Run  record.RunNumber `json:"run"`
	Job  string           `json:"job"`
	Kind ShellKind        `json:"kind"`
	Who  string           `json:"who"`
	// What was run, or taken out.
	Command string `json:"command,omitempty"`
	Path    string `json:"path,omitempty"`
	// Secrets it wanted, and who has granted them.
	Secrets []string   `json:"secrets"`
	Granted string     `json:"granted_by,omitempty"`
	Asked   time.Time  `json:"asked_at"`
	Opened  *time.Time `json:"opened_at,omitempty"`
	Ended   *time.Time `json:"ended_at,omitempty"`
	Why     string     `json:"why,omitempty"`
	Code    *int       `json:"exit_code,omitempty"`
	// Bytes that were printed, and are recorded.
	Printed int64 `json:"printed"`
}

// ShellFilter narrows the list of a project's shells.
type ShellFilter struct {
	Run    record.RunNumber `query:"run" minimum:"0"`
	Before record.ShellID   `query:"before" minimum:"0"`
	Limit  int              `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

// Finished answers a runner's word that an attempt has ended.
type Finished struct {
	// The workspace is to stay: the runner asks on how long, and for whom to open it.
	Stays bool `json:"stays"`
}

// StayBeat is what the runner of a workspace that stays says of it, again and again.
type StayBeat struct {
	// The age recipient secrets are to be sealed to.
	Recipient string `json:"recipient" maxLength:"200"`
	// Why it stays no longer; "" it does.
	Gone string `json:"gone,omitempty" maxLength:"500"`
	// The shells it has opened, so that the answer waits for others.
	Open []record.ShellID `json:"open" maxItems:"100"`
}

// StayNews is what the runner is told.
type StayNews struct {
	// It is to stay no longer.
	Over bool `json:"over"`
	// For how long it is to stay.
	LeftMs int64         `json:"left_ms"`
	Shells []ShellWanted `json:"shells"`
}

// ShellWanted is one that a runner is to open.
type ShellWanted struct {
	ID       record.ShellID `json:"id"`
	Kind     ShellKind      `json:"kind"`
	Terminal bool           `json:"terminal"`
	Cols     int            `json:"cols"`
	Rows     int            `json:"rows"`
	Command  string         `json:"command,omitempty"`
	Path     string         `json:"path,omitempty"`
	// Secrets it was granted, and whether each is a text or a file.
	Wants       []string          `json:"wants,omitempty"`
	Secrets     []byte            `json:"secrets,omitempty"`
	SecretKinds map[string]string `json:"secret_kinds,omitempty"`
}
