package api

import (
	"time"

	"gentlepiston.example/piston/core/access"
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
	Kind     SecretKind      `json:"kind" enum:"text,file"`
	Value    []byte          `json:"value" doc:"The bytes, in Base64 on the way."`
	Settings *SecretSettings `json:"settings,omitempty" doc:"What is to be said about it, too."`
}

// SecretSettings says something about a secret; what is absent stays.
type SecretSettings struct {
	Note    *string       `json:"note,omitempty" maxLength:"1000" doc:"For humans: what it opens, where to get a new one."`
	Expires *time.Time    `json:"expires,omitempty" doc:"When its value ceases to be good; 0001-01-01T00:00:00Z for never."`
	Scope   *access.Scope `json:"scope,omitempty" doc:"Which runs are given it."`
	Shared  *[]string     `json:"shared,omitempty" maxItems:"100" doc:"Other projects that may use it."`
}

// Secret is a secret without its value.
type Secret struct {
	Name     string       `json:"name" doc:"Of a member of a set: SET:MEMBER."`
	Kind     SecretKind   `json:"kind" enum:"text,file"`
	Revision int          `json:"revision"`
	Size     int          `json:"size" doc:"Bytes of the value; 0 when it was set before sizes were kept."`
	Updated  time.Time    `json:"updated"`
	By       string       `json:"by"`
	Note     string       `json:"note,omitempty"`
	Expires  *time.Time   `json:"expires,omitempty"`
	Scope    access.Scope `json:"scope"`
	Home     string       `json:"home" doc:"The project whose keepers set it."`
	Shared   []string     `json:"shared" doc:"Other projects that may use it."`
	UsedRun  int64        `json:"used_run,omitempty" doc:"Number of the last run that was given it."`
	UsedIn   string       `json:"used_in,omitempty" doc:"Project of that run."`
	Used     *time.Time   `json:"used,omitempty"`
}

// SecretRevision is one value a secret has had, without the value.
type SecretRevision struct {
	Revision int        `json:"revision"`
	Kind     SecretKind `json:"kind" enum:"text,file"`
	Size     int        `json:"size"`
	Set      time.Time  `json:"set"`
	By       string     `json:"by"`
	Restored int        `json:"restored,omitempty" doc:"The revision whose value was put back by it."`
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
}

// MasterRotation tells what came of a rotation of the master key.
type MasterRotation struct {
	Recipient string `json:"recipient" doc:"Of the master that is in use now (age)."`
	Sealed    int    `json:"sealed" doc:"Records that were encrypted anew."`
	Former    string `json:"former,omitempty" doc:"File on the server with the former master, which opens dumps of the database made until now."`
}
