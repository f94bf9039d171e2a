package logline

import "embed"

// Source is where the fields say what they mean.
//
//go:embed line.go
var Source embed.FS
