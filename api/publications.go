package api

import (
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
)

// Outlet is a place where a project's releases can go.
type Outlet struct {
	Name string `json:"name"`
	Kind string `json:"kind" enum:"folder,bucket,store,testers"`
	// Of a folder: below that of the project's outlets on the server's machine.
	Folder string `json:"folder,omitempty"`
	// Of a store: where it speaks the outlet protocol, and to which client. Of a bucket: https://HOST/BUCKET, maybe with a
	// prefix below it, and the id of the access key.
	URL    string `json:"url,omitempty"`
	Client string `json:"client,omitempty"`
	// Of a bucket.
	Region string `json:"region,omitempty"`
	// Kinds of packages that go there; absent: all of a release.
	Takes []string `json:"takes,omitempty" enum:"apk,app-bundle,ipa"`
	// Of testers: for how many days they may have a release; absent: 90.
	Days int `json:"days,omitempty"`
	// When what it is spoken to with is good no more.
	Expires *time.Time `json:"expires,omitempty"`
	// What should be seen to, such as a secret that ends soon.
	Warnings []string `json:"warnings"`
	// Which runs may publish there by themselves; a keeper may in any case.
	Scope access.Scope `json:"scope"`
	SetBy string       `json:"set_by"`
	SetAt time.Time    `json:"set_at"`
}

// NewOutlet makes an outlet, or changes it.
type NewOutlet struct {
	Kind string `json:"kind" enum:"folder,bucket,store,testers"`
	// Of a folder; default: the outlet's name.
	Folder string `json:"folder,omitempty" maxLength:"200"`
	// Of a store: the address where it speaks the outlet protocol. Of a bucket: https://HOST/BUCKET, maybe with a prefix
	// below it. https, but on the server's own machine.
	URL string `json:"url,omitempty" maxLength:"500"`
	// By which id it knows the service (OAuth 2.0), and its secret, or the private key that signs for it as PEM; of a
	// bucket the access key's id, and the key. It is kept encrypted, and never told. Absent: what is set already stays.
	Client string `json:"client,omitempty" maxLength:"200"`
	Secret string `json:"secret,omitempty" maxLength:"16384"`
	// Of testers: for how many days they may have a release; default: 90.
	Days int `json:"days,omitempty" minimum:"0" maximum:"365"`
	// Of a bucket; default: us-east-1.
	Region string `json:"region,omitempty" maxLength:"60"`
	// When the secret is good no more.
	Expires *time.Time `json:"expires,omitempty"`
	// Kinds of packages that go there; absent: all of a release.
	Takes []string `json:"takes,omitempty" enum:"apk,app-bundle,ipa" maxItems:"3"`
	// Which runs may publish there by themselves; empty: any of the project.
	Scope access.Scope `json:"scope,omitempty"`
}

// OutletTried tells whether an outlet answers.
type OutletTried struct {
	// Why it does not; absent when it does.
	Trouble string `json:"trouble,omitempty"`
}

// NewPublication says where a release is to go.
type NewPublication struct {
	Outlet string `json:"outlet" minLength:"1" maxLength:"63"`
	// A line of the outlet; default: release.
	Channel string `json:"channel,omitempty" maxLength:"100"`
	// Of a hundred people; default: all.
	Share int `json:"share,omitempty" minimum:"0" maximum:"100"`
	// Keep it at the outlet until a share is set, also when it may go out.
	Hold bool `json:"hold,omitempty"`
	// How the share is raised by itself, such as "50% after 1d": each step some time after the one before it.
	Raise []string `json:"raise,omitempty" maxItems:"20"`
	// What those who get it should look at; testers are told.
	Note string `json:"note,omitempty" maxLength:"1000"`
}

// PublicationPlan tells what publishing would change, and everything that is missing for it.
type PublicationPlan struct {
	App     string                         `json:"app"`
	Name    string                         `json:"name"`
	Builds  map[string]version.BuildNumber `json:"builds"`
	Outlet  string                         `json:"outlet"`
	Channel string                         `json:"channel"`
	Share   int                            `json:"share"`
	// Bytes to send.
	Size int64 `json:"size"`
	// What stands there now.
	Now publication.Standing `json:"now"`
	// Empty when it would be taken.
	Missing []publication.Missing `json:"missing"`
}

// Publication is a release on its way to an outlet.
type Publication struct {
	ID      record.PublicationID `json:"id"`
	Project string               `json:"project"`
	App     string               `json:"app"`
	Name    string               `json:"name"`
	Run     record.RunNumber     `json:"run"`
	Outlet  string               `json:"outlet"`
	Channel string               `json:"channel"`
	// Of a hundred people: as it is wanted, and as it is.
	Share int `json:"share"`
	OutTo int `json:"out_to"`
	// prepared, sending, processing, in-review, accepted, shared, out, halted, refused or withdrawn.
	State publication.State `json:"state"`
	// Why it is refused.
	Reasons []string `json:"reasons"`
	// What a person has to answer at the outlet before it goes on, with where.
	Asks []string `json:"asks"`
	// Whether it is kept at the outlet until a share is set.
	Hold bool `json:"hold,omitempty"`
	// To which share it is raised by itself next, and when; absent when it is not.
	NextShare int        `json:"next_share,omitempty"`
	NextAt    *time.Time `json:"next_at,omitempty"`
	// Why it cannot go on just now; it is tried again.
	Trouble string `json:"trouble,omitempty"`
	// What somebody wants of it that is not done yet.
	Wants string `json:"wants,omitempty" enum:"share,halt,withdraw"`
	// Bytes.
	Sent  int64 `json:"sent"`
	Total int64 `json:"total"`
	// Who began it by hand; absent when its run did.
	By    string    `json:"by,omitempty"`
	Begun time.Time `json:"begun"`
}

// PublicationFilter says which publications are wanted.
type PublicationFilter struct {
	Release record.ReleaseID     `query:"release" minimum:"0" doc:"only those of this release"`
	Outlet  string               `query:"outlet" maxLength:"63"`
	State   string               `query:"state" maxLength:"20"`
	Before  record.PublicationID `query:"before" minimum:"0" doc:"what a page before said under next"`
	Limit   int                  `query:"limit" minimum:"1" maximum:"200" default:"30"`
}

// PublicationPage is a page of publications, newest first.
type PublicationPage struct {
	Publications []Publication `json:"publications"`
	// Pass as before to get the following page; absent on the last.
	Next record.PublicationID `json:"next,omitempty"`
}

// ShareWish wants a release to go to so many of a hundred people.
type ShareWish struct {
	Percent int `json:"percent" minimum:"1" maximum:"100"`
}
