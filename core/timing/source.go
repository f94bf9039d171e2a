package timing

import "embed"

// Source is where the fields say what they mean.
//
//go:embed timing.go replay.go
var Source embed.FS
