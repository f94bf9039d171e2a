package api

import "embed"

// Source is where the fields say what they mean.
//
//go:embed api.go audit.go bisections.go caches.go failures.go gates.go health.go identities.go kept.go
//go:embed letters.go notes.go overview.go packages.go people.go pipelines.go publications.go pushes.go
//go:embed releases.go runner.go search.go secrets.go stays.go testers.go tests.go times.go usage.go
//go:embed versions.go webhooks.go
var Source embed.FS
