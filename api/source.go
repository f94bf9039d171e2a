package api

import "embed"

// Source is where the fields say what they mean.
//
//go:embed api.go audit.go health.go kept.go people.go pipelines.go pushes.go runner.go secrets.go
var Source embed.FS
