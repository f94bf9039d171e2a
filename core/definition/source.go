package definition

import "embed"

// Source is where the fields say what they mean.
//
//go:embed app.go appchecklist.go appnotes.go causes.go definition.go explain.go finding.go gate.go input.go job.go
//go:embed limits.go part.go trigger.go
var Source embed.FS
