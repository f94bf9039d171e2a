package action

import "embed"

// Source is where the fields say what they mean.
//
//go:embed note.go
var Source embed.FS
