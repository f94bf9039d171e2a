package testreport

import "embed"

// Source is where the fields say what they mean.
//
//go:embed junit.go
var Source embed.FS
