package api

import (
	"encoding/json"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Act is an entry of the audit trail.
type Act struct {
	ID  int64     `json:"id"`
	At  time.Time `json:"at"`
	Who string    `json:"who"`
	// By what they came in.
	Door    string         `json:"door" enum:"session,token,runner,service"`
	Token   record.TokenID `json:"token,omitempty"`
	Address string         `json:"address,omitempty"`
	// What was done, such as secret.set.
	Act     string `json:"act"`
	Project string `json:"project,omitempty"`
	// To what.
	Subject string          `json:"subject,omitempty"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
}

// AuditPage is a page of the audit trail, newest first.
type AuditPage struct {
	Acts []Act `json:"acts"`
	// Pass as before to get the following page; absent on the last.
	Next int64 `json:"next,omitempty"`
}
