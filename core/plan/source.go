package plan

import "embed"

// Source is where the fields say what they mean.
//
//go:embed plan.go
var Source embed.FS
