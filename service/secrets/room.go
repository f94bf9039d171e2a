// Package secrets keeps the values that runs are given, and says to which run, and hands them out sealed to the runner
// that is to have them.
package secrets

import (
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/vault"
)

// Secrets is the room of secrets.
type Secrets struct {
	*ground.Ground
	vault *vault.Vault
}

// New makes it.
func New(g *ground.Ground, v *vault.Vault) *Secrets { return &Secrets{g, v} }
