package api

import (
	"time"

	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/record"
)

// NewWebhook sets an address at which a program is told of what happens.
type NewWebhook struct {
	// https, or http on this machine. One inside is set by an administrator.
	URL string `json:"url" maxLength:"2000"`
	// Of what it is told; absent: pipelines that broke or recovered, releases, budgets.
	Kinds []news.Kind `json:"kinds,omitempty" maxItems:"20"`
}

// Webhook is an address at which a program is told of what happens.
type Webhook struct {
	Name   string      `json:"name"`
	URL    string      `json:"url"`
	Kinds  []news.Kind `json:"kinds"`
	Inside bool        `json:"inside,omitempty"`
	// Why nothing is sent to it.
	Paused string    `json:"paused,omitempty"`
	By     string    `json:"by"`
	Set    time.Time `json:"set"`
	// By what messages are signed (Standard Webhooks): told once, when it is set.
	Secret string `json:"secret,omitempty"`
}

// MessageFilter narrows what was sent to a webhook.
type MessageFilter struct {
	State  string           `query:"state" enum:"queued,sent,refused" doc:"Only those"`
	Before record.MessageID `query:"before" minimum:"0" doc:"Only before this one: next of the page before"`
	Limit  int              `query:"limit" minimum:"1" maximum:"200" default:"50" doc:"At most so many"`
}

// MessagePage is a part of what was sent to a webhook, the latest first.
type MessagePage struct {
	Messages []Message        `json:"messages"`
	Next     record.MessageID `json:"next,omitempty"`
}

// Message is what was sent to a webhook, with what it answered.
type Message struct {
	ID    record.MessageID `json:"id"`
	Kind  string           `json:"kind"`
	State string           `json:"state" enum:"queued,sent,refused"`
	Tries int              `json:"tries"`
	// Of the last answer; absent: none came.
	Status int `json:"status,omitempty"`
	// How the last answer began, or why there was none.
	Answer string     `json:"answer,omitempty"`
	Body   string     `json:"body"`
	Queued time.Time  `json:"queued"`
	Tried  *time.Time `json:"tried,omitempty"`
	Ended  *time.Time `json:"ended,omitempty"`
}

// Wishes are what somebody wants to be told of by mail.
type Wishes struct {
	// What may be chosen, with what it means.
	Choices []WishChoice `json:"choices"`
	Wishes  []Wish       `json:"wishes"`
}

// WishChoice is something one may be told of.
type WishChoice struct {
	Kind  string `json:"kind"`
	Means string `json:"means"`
}

// Wish is what somebody wants to be told of a project.
type Wish struct {
	// Absent: of all projects that no other wish names.
	Project string `json:"project,omitempty" maxLength:"63"`
	// Empty: of nothing.
	Kinds []string `json:"kinds" maxItems:"20"`
	// Nobody has chosen it.
	Unasked bool `json:"unasked,omitempty" readOnly:"true"`
}

// Feed is where a project's badge and feed are; whoever has the address may read them.
type Feed struct {
	Badge string `json:"badge"`
	Atom  string `json:"atom"`
}
