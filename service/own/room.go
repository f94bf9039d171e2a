// Package own is the room of jobs that take no machine, since the service does all of their steps. A server that is
// killed meanwhile is followed by another that goes on where the records say it was: each step can be done again.
package own

import (
	"context"
	"time"

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
	g.OneOfAll(ground.Upkeep{What: "going on with jobs that a server has left", Every: leftEvery, Do: s.takeUp})
	return s
}

// leftEvery is how often is looked for what a server has left that does not come back.
const leftEvery = 10 * time.Second

// takeUp has others go on with what a server has left.
func (s *Own) takeUp(ctx context.Context) error {
	return s.Tx(ctx, func(q ground.Q) error {
		left, err := q.LeftAttempts(ctx)
		for _, id := range left {
			if err == nil {
				err = q.PutOff(ctx, work.OwnDue{Attempt: id})
			}
		}
		return err
	})
}
