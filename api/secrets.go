package api

import (
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/record"
)

// SecretKind tells how a secret reaches a step.
type SecretKind string

// The kinds of secret.
const (
	TextSecret SecretKind = "text"
	FileSecret SecretKind = "file"
)

// NewSecret sets a secret's value.
type NewSecret struct {
	Kind SecretKind `json:"kind" enum:"text,file"`
	// The bytes, in Base64 on the way.
	Value []byte `json:"value"`
	// What is to be said about it, too.
	Settings *SecretSettings `json:"settings,omitempty"`
}

// SecretSettings says something about a secret; what is absent stays.
type SecretSettings struct {
	// For humans: what it opens, where to get a new one.
	Note *string `json:"note,omitempty" maxLength:"1000"`
	// When its value ceases to be good; 0001-01-01T00:00:00Z for never.
	Expires *time.Time `json:"expires,omitempty"`
	// Which runs are given it.
	Scope *access.Scope `json:"scope,omitempty"`
	// Other projects that may use it.
	Shared *[]string `json:"shared,omitempty" maxItems:"100"`
}

// Secret is a secret without its value.
type Secret struct {
	// Of a member of a set: SET:MEMBER.
	Name     string     `json:"name"`
	Kind     SecretKind `json:"kind" enum:"text,file"`
	Revision int        `json:"revision"`
	// Bytes of the value; 0 when it was set before sizes were kept.
	Size    int          `json:"size"`
	Updated time.Time    `json:"updated"`
	By      string       `json:"by"`
	Note    string       `json:"note,omitempty"`
	Expires *time.Time   `json:"expires,omitempty"`
	Scope   access.Scope `json:"scope"`
	// The project whose keepers set it.
	Home string `json:"home"`
	// Other projects that may use it.
	Shared []string `json:"shared"`
	// Number of the last run that was given it.
	UsedRun record.RunNumber `json:"used_run,omitempty"`
	// Project of that run.
	UsedIn string     `json:"used_in,omitempty"`
	Used   *time.Time `json:"used,omitempty"`
}

// SecretRevision is one value a secret has had, without the value.
type SecretRevision struct {
	Revision int        `json:"revision"`
	Kind     SecretKind `json:"kind" enum:"text,file"`
	Size     int        `json:"size"`
	Set      time.Time  `json:"set"`
	By       string     `json:"by"`
	// The revision whose value was put back by it.
	Restored int `json:"restored,omitempty"`
}

// RestoreSecret asks for an earlier value.
type RestoreSecret struct {
	Revision int `json:"revision" minimum:"1"`
}

// SecretRule is what a check may know of a secret.
type SecretRule struct {
	Name    string       `json:"name"`
	Scope   access.Scope `json:"scope"`
	Expires *time.Time   `json:"expires,omitempty"`
	// What the value says, when it is a provisioning profile.
	Profile profile.Profile `json:"profile"`
}

// MasterRotation tells what came of a rotation of the master key.
type MasterRotation struct {
	// Of the master that is in use now (age).
	Recipient string `json:"recipient"`
	// Records that were encrypted anew.
	Sealed int `json:"sealed"`
	// File on the server with the former master, which opens dumps of the database made until now.
	Former string `json:"former,omitempty"`
}
