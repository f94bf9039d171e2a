// Package outlet is the one small interface to places where releases go, and an adapter for each kind that ships: what
// stands there now, what is missing, bring this, how does it stand, change the share, stop, take back.
//
// An adapter keeps nothing in memory that a crash would lose: the same call may come again from another server, and
// whatever was done by it before is then done already. It never overwrites what people have.
package outlet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
)

// Outlet is a place where releases go. Every call may fail by an Away, and is then made again later.
type Outlet interface {
	// Try asks it for something that changes nothing, to see whether it answers, and to whom it gives credit.
	Try(ctx context.Context) error
	// Now tells what stands where an offer would go.
	Now(ctx context.Context, o Offer) (publication.Standing, error)
	// Missing lists everything that keeps what is offered from being taken, all at once; nothing is changed by it.
	Missing(ctx context.Context, o Offer) ([]publication.Missing, error)
	// Bring sends what is offered, and gives the name by which the outlet knows it. With the same key it is brought
	// once, however often it is called; what was sent before a crash is not sent again where the outlet keeps it.
	Bring(ctx context.Context, o Offer, sent func(bytes int64)) (ref string, err error)
	// Sent gives the name by which the outlet knows what was brought under the key of an offer, though a crash kept that
	// from being noted; "" when it has nothing of it.
	Sent(ctx context.Context, o Offer) (ref string, err error)
	// Stands tells how what was brought stands.
	Stands(ctx context.Context, ref string) (publication.Stands, error)
	// Share sets how many of a hundred people get it.
	Share(ctx context.Context, ref string, percent int) error
	// Halt keeps further people from getting it; Share goes on with it.
	Halt(ctx context.Context, ref string) error
	// TakeBack takes it away. What people have, they have.
	TakeBack(ctx context.Context, ref string) error
}

// Offer is what is to be brought.
type Offer struct {
	Key      string                         // stands for this one bringing, over all its tries
	App      string                         // as the project calls it
	Name     string                         // of the version
	Builds   map[string]version.BuildNumber // by the platform
	Channel  string
	Share    int               // of a hundred people
	Hold     bool              // keep it until a share is set, also when it may go out
	Notes    map[string]string // by the language's tag
	Note     string            // what those who get it should look at
	Release  record.ReleaseID  // by which the service itself knows it
	Packages []Package
}

// Size is how many bytes are to be sent.
func (o Offer) Size() (n int64) {
	for _, p := range o.Packages {
		n += p.Size
	}
	return n
}

// Package is a file of an offer.
type Package struct {
	File     string // its base name
	Kind     string // apk, app-bundle or ipa
	Platform string
	ID       string // the application's
	Build    string
	Size     int64
	SHA256   string
	// What is known of it, by which an outlet can tell what is missing before anything is sent.
	Signers    []string // SHA-256 of their certificates, hexadecimal
	Target     string   // the system it was made for
	Processors []string
	// Open reads it from a byte on.
	Open func(ctx context.Context, from int64) (io.ReadCloser, error)
}

// Away is the error of an outlet that cannot do it just now. After is how long it wants to be left alone; 0 when it
// does not say.
type Away struct {
	After time.Duration
	Why   error
}

// Error implements error.
func (a *Away) Error() string { return fmt.Sprintf("the outlet is away: %v", a.Why) }

// Unwrap gives the cause.
func (a *Away) Unwrap() error { return a.Why }

// Refusal is the error of an outlet that does not take it, with every reason.
type Refusal struct{ Reasons []string }

// Error implements error.
func (r *Refusal) Error() string { return strings.Join(r.Reasons, "; ") }

// ErrNoShare says that an outlet gives to all or to nobody.
var ErrNoShare = errors.New("it gives a release to everybody or to nobody; a share other than 100 means nothing here")
