package api

import (
	"encoding/json"
	"time"
)

// Act is an entry of the audit trail.
type Act struct {
	ID      int64           `json:"id"`
	At      time.Time       `json:"at"`
	Who     string          `json:"who"`
	Door    string          `json:"door" enum:"session,token,runner,service" doc:"By what they came in."`
	Token   int64           `json:"token,omitempty"`
	Address string          `json:"address,omitempty"`
	Act     string          `json:"act" doc:"What was done, such as secret.set."`
	Project string          `json:"project,omitempty"`
	Subject string          `json:"subject,omitempty" doc:"To what."`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
}

// AuditPage is a page of the audit trail, newest first.
type AuditPage struct {
	Acts []Act `json:"acts"`
	Next int64 `json:"next,omitempty" doc:"Pass as before to get the following page; absent on the last."`
}
