package api

import (
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
)

// Person is somebody who may sign in.
type Person struct {
	Name string `json:"name"`
	// By themselves or by a group.
	Administrator bool `json:"administrator"`
	// May not sign in, nor use a token.
	Disabled bool `json:"disabled,omitempty"`
	// Where they get mail; absent when they get none.
	Mail string `json:"mail,omitempty"`
	// Where they sign in by OpenID Connect.
	Issuer  string    `json:"issuer,omitempty"`
	Groups  []string  `json:"groups"`
	Created time.Time `json:"created"`
	// When they last signed in.
	Seen *time.Time `json:"seen,omitempty"`
	// After somebody was kept out: the runners' tokens that they made and that still stand.
	RunnerTokens []string `json:"runner_tokens,omitempty"`
}

// Me is who is signed in, and what they may do where.
type Me struct {
	Name          string `json:"name"`
	Administrator bool   `json:"administrator"`
	// By project: reader, builder or keeper; * for every project.
	Roles map[string]access.Role `json:"roles"`
	// Where mail goes; absent for nowhere.
	Mail string `json:"mail,omitempty"`
}

// Credentials open a session.
type Credentials struct {
	Name     string `json:"name" minLength:"1" maxLength:"100"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// Redeem opens a session by the code that a browser brought to a program on its machine.
type Redeem struct {
	Code string `json:"code" minLength:"1" maxLength:"4000"`
	// What the challenge was made of (RFC 7636).
	Verifier string `json:"verifier" minLength:"43" maxLength:"128"`
}

// NewPerson adds somebody.
type NewPerson struct {
	Name          string `json:"name" pattern:"^[a-z0-9][a-z0-9._@-]{0,99}$"`
	Administrator bool   `json:"administrator,omitempty"`
}

// NewPassword is a password that was made for somebody; it is shown this once.
type NewPassword struct {
	Name     string `json:"name"`
	Password string `json:"password"`
}

// OwnPassword changes one's own password.
type OwnPassword struct {
	Old string `json:"old" maxLength:"1000"`
	New string `json:"new" minLength:"12" maxLength:"1000"`
}

// PersonChange changes what somebody may; what is absent stays.
type PersonChange struct {
	Administrator *bool `json:"administrator,omitempty"`
	Disabled      *bool `json:"disabled,omitempty"`
}

// Group is people who are given roles together.
type Group struct {
	Name string `json:"name"`
	// Its members are administrators.
	Administrators bool `json:"administrators,omitempty"`
	// Whoever is in this group at the issuer is a member, from their next sign-in on.
	IssuerGroup string   `json:"issuer_group,omitempty" maxLength:"200"`
	Members     []string `json:"members" maxItems:"1000"`
}

// GroupChange makes a group or changes it.
type GroupChange struct {
	Administrators bool   `json:"administrators,omitempty"`
	IssuerGroup    string `json:"issuer_group,omitempty" maxLength:"200"`
	// Names of people; those who are members by the issuer need not be among them.
	Members []string `json:"members" maxItems:"1000"`
}

// Grant gives a person or a group a role.
type Grant struct {
	// Absent: every project.
	Project string      `json:"project,omitempty" maxLength:"63"`
	Person  string      `json:"person,omitempty" maxLength:"100"`
	Group   string      `json:"group,omitempty" maxLength:"100"`
	Role    access.Role `json:"role,omitempty" enum:"reader,builder,keeper"`
}

// Whom names the person or the group.
func (g Grant) Whom() string {
	if g.Group != "" {
		return "group " + g.Group
	}
	return g.Person
}

// Key is the name by which a list of roles is ordered, and paged.
func (g Grant) Key() string {
	if g.Project == "" {
		return "*/" + g.Whom()
	}
	return g.Project + "/" + g.Whom()
}

// TokenKind is what a token may be used for.
type TokenKind string

// A person's token does what the person may do, within its own bounds; a runner's only claims and reports work.
const (
	PersonToken TokenKind = "person"
	RunnerToken TokenKind = "runner"
)

// NewToken asks for a token.
type NewToken struct {
	// What it is for, to find it again.
	Name string    `json:"name" minLength:"1" maxLength:"100"`
	Kind TokenKind `json:"kind" enum:"person,runner" default:"person"`
	// The most it may do. Absent: whatever its person may.
	Role access.Role `json:"role,omitempty" enum:"reader,builder,keeper,administrator"`
	// The only project it is for.
	Project string `json:"project,omitempty" maxLength:"63"`
	// After how many days it expires; 0 never.
	Days int `json:"days,omitempty" minimum:"0" maximum:"3650"`
}

// Token is a token without its secret part.
type Token struct {
	ID       record.TokenID `json:"id"`
	Name     string         `json:"name"`
	Kind     TokenKind      `json:"kind" enum:"person,runner"`
	Person   string         `json:"person,omitempty"`
	Role     access.Role    `json:"role,omitempty"`
	Project  string         `json:"project,omitempty"`
	Created  time.Time      `json:"created"`
	Expires  *time.Time     `json:"expires,omitempty"`
	LastUsed *time.Time     `json:"last_used,omitempty"`
	// Who made it; a runner's token outlives their leave.
	MadeBy string `json:"made_by,omitempty"`
}

// IssuedToken is a new token with its secret part, which is never shown again.
type IssuedToken struct {
	Token
	Secret string `json:"secret"`
}

// SignInWays tells how one may sign in.
type SignInWays struct {
	// Name of the OpenID Connect issuer, when there is one.
	Issuer string `json:"issuer,omitempty"`
}
