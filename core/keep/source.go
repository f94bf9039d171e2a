package keep

import "embed"

// Source is where the fields say what they mean.
//
//go:embed keep.go
var Source embed.FS
