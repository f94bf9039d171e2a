// Package access says who may do what: roles of people, and which runs a secret is for.
package access

import "slices"

// Role is what somebody may do in a project. Each may do what the ones before it may.
type Role string

// The roles. An administrator has them all, everywhere, and looks after people, groups and runners.
const (
	Nobody        Role = ""
	Reader        Role = "reader"  // sees runs, logs and artifacts
	Builder       Role = "builder" // starts and stops runs
	Keeper        Role = "keeper"  // sets secrets and the project's settings
	Administrator Role = "administrator"
)

var roles = []Role{Nobody, Reader, Builder, Keeper, Administrator}

// Roles are those that can be granted in a project.
var Roles = []Role{Reader, Builder, Keeper}

func (r Role) rank() int { return slices.Index(roles, r) }

// Covers reports whether whoever has the role may do what needs another.
func (r Role) Covers(need Role) bool { return r.rank() >= need.rank() && need.rank() >= 0 }

// AtMost is the lesser of two roles; none bounds nothing.
func (r Role) AtMost(bound Role) Role {
	if bound != Nobody && bound.rank() < r.rank() {
		return bound
	}
	return r
}

// Greatest is the greatest of roles that somebody has by several ways.
func Greatest(list ...Role) Role {
	best := Nobody
	for _, r := range list {
		if r.rank() > best.rank() {
			best = r
		}
	}
	return best
}
