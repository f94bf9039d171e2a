package access

import "embed"

// Source is where the fields say what they mean.
//
//go:embed secret.go
var Source embed.FS
