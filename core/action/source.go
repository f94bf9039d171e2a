package action

import "embed"

// Source is where the fields say what they mean.
//
//go:embed checklist.go deal.go land.go note.go package.go publish.go raise.go release.go sign.go
var Source embed.FS
