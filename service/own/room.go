// Package own is the room of jobs that take no machine, since the service does all of their steps. A server that is
// killed meanwhile is followed by another that goes on where the records say it was: each step can be done again.
package own

import (
	"context"

	"github.com/riverqueue/river"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/service/publish"
	"gentlepiston.example/piston/service/releases"
	"gentlepiston.example/piston/service/versions"
	"gentlepiston.example/piston/service/work"
)

// Own is the room of the service's own jobs.
type Own struct {
	*ground.Ground
	work     *work.Work
	logs     *logs.Logs
	versions *versions.Versions
	releases *releases.Releases

	publications *publish.Publish
}

// New makes it.
func New(g *ground.Ground, w *work.Work, l *logs.Logs, v *versions.Versions, r *releases.Releases,
	p *publish.Publish) *Own {
	s := &Own{g, w, l, v, r, p}
	ground.Does(g, s.due)
	ground.TakesUp(g, "jobs", func(ctx context.Context, q ground.Q) ([]record.AttemptID, error) {
		return q.LeftAttempts(ctx)
	}, func(id record.AttemptID) river.JobArgs { return work.OwnDue{Attempt: id} })
	return s
}
