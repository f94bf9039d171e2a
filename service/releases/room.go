// Package releases is the room of what goes to people: a version of an app, made of packages that one run has kept and
// that meet the checklist, and everything that becomes of it.
package releases

import (
	"github.com/riverqueue/river"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/gates"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/packages"
	"gentlepiston.example/piston/service/versions"
)

// Releases is the room of releases.
type Releases struct {
	*ground.Ground
	versions *versions.Versions
	packages *packages.Packages
	gates    *gates.Gates
}

// New makes it.
func New(g *ground.Ground, v *versions.Versions, p *packages.Packages, a *gates.Gates) *Releases {
	return &Releases{g, v, p, a}
}

// PublicationDue is a release on its way to an outlet that is to be gone on with.
type PublicationDue struct {
	Publication record.PublicationID `json:"publication"`
	Wake        bool                 `json:"wake,omitempty"` // it is looked at anyway, but not now
}

// Kind implements river.JobArgs.
func (PublicationDue) Kind() string { return "publication" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (PublicationDue) InsertOpts() river.InsertOpts { return river.InsertOpts{Queue: ground.Slow} }
