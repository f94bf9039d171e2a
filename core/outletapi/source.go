package outletapi

import "embed"

// Source is the source of the types: what stands above their fields is put into the protocol's reference.
//
//go:embed outletapi.go
var Source embed.FS
