// Package people knows who people are and what they may do: names and groups, roles in projects, the ways in (by
// password, by token, by an issuer), and what came of each.
package people

import (
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/vault"
)

// People is the room of people, and of the ways in.
type People struct {
	*ground.Ground
	vault      *vault.Vault
	issuer     Issuer
	public     string
	discovered found
}

// New makes it. public is the address by which people reach the console; "" when that is not known.
func New(g *ground.Ground, v *vault.Vault, issuer Issuer, public string) *People {
	return &People{Ground: g, vault: v, issuer: issuer, public: public}
}

// Background has ready what the first who signs in would wait for.
func (s *People) Background() { s.Go(func() { _ = nobody() }) }
