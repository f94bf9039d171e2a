package api

import (
	"time"

	"gentlepiston.example/piston/core/record"
)

// Letter is something that was sent by mail, or is to be.
type Letter struct {
	ID      record.LetterID `json:"id"`
	To      string          `json:"to"`
	Subject string          `json:"subject"`
	State   string          `json:"state" enum:"queued,sent,refused"`
	// What the mail server said last.
	Trouble string     `json:"trouble,omitempty"`
	Queued  time.Time  `json:"queued"`
	Ended   *time.Time `json:"ended,omitempty"`
}

// LetterFilter says which letters are wanted.
type LetterFilter struct {
	State    string          `query:"state" enum:"queued,sent,refused,"`
	Contains string          `query:"contains" maxLength:"100" doc:"in the address"`
	Before   record.LetterID `query:"before" minimum:"0" doc:"what a page before said under next"`
	Limit    int             `query:"limit" minimum:"1" maximum:"200" default:"30"`
}

// LetterPage is a page of letters, newest first.
type LetterPage struct {
	Letters []Letter `json:"letters"`
	// Pass as before to get the following page; absent on the last.
	Next record.LetterID `json:"next,omitempty"`
}

// MailAddress is where somebody gets mail; empty for none.
type MailAddress struct {
	Mail string `json:"mail" maxLength:"254"`
}
