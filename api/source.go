package api

import "embed"

// Source is where the fields say what they mean.
//
//go:embed api.go audit.go caches.go failures.go gates.go health.go identities.go kept.go letters.go notes.go
//go:embed overview.go packages.go people.go pipelines.go publications.go pushes.go releases.go runner.go search.go
//go:embed secrets.go stays.go testers.go tests.go times.go usage.go versions.go webhooks.go
var Source embed.FS
