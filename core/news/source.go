package news

import "embed"

// Source is where the fields say what they mean.
//
//go:embed news.go
var Source embed.FS
