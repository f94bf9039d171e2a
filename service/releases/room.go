// Package releases is the room of what goes to people: a version of an app, made of packages that one run has kept and
// that meet the checklist, and everything that becomes of it.
package releases

import (
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
