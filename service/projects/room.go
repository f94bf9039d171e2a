// Package projects keeps which projects there are: where their repositories are, what they may, who may read their
// source besides them, and how they end.
package projects

import (
	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/vault"
)

// Projects is the room of projects.
type Projects struct {
	*ground.Ground
	vault  *vault.Vault
	blobs  *blob.Blobs
	public string
}

// New makes it. public is the address by which people reach the console; "" when that is not known.
func New(g *ground.Ground, v *vault.Vault, blobs *blob.Blobs, public string) *Projects {
	s := &Projects{g, v, blobs, public}
	ground.Does(g, s.dropBlobs)
	return s
}
