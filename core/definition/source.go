package definition

import "embed"

// Source is where the fields say what they mean.
//
//go:embed app.go appchecklist.go appnotes.go definition.go explain.go finding.go input.go job.go limits.go part.go
//go:embed trigger.go
var Source embed.FS
