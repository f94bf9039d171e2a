// Package work hands jobs out and takes in what comes of them: the queue and who waits for what, leases, reports, what
// leaves a job, and how jobs follow each other.
package work

import (
	"time"

	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/secrets"
)

// Work is the room of work.
type Work struct {
	*ground.Ground
	secrets  *secrets.Secrets
	blobs    *blob.Blobs
	dispatch *dispatcher
	away     bool // the database was, when lost runners were last looked for
}

// New makes it.
func New(g *ground.Ground, s *secrets.Secrets, blobs *blob.Blobs) *Work {
	return &Work{Ground: g, secrets: s, blobs: blobs, dispatch: newDispatcher(g)}
}

// Background starts its loops.
func (s *Work) Background() {
	s.Loop(ground.Upkeep{What: "looking for lost runners", Every: time.Second,
		Do: s.loseSilent})
	s.Loop(ground.Upkeep{What: "ending runs over their limit", Every: time.Second,
		Do: s.stopOverdue})
	s.Loop(ground.Upkeep{What: "handing out jobs", Every: 10 * time.Millisecond,
		Do: s.dispatch.run}) // for as long as the service lives
	s.Loop(ground.Upkeep{What: "taking the service's own jobs", Every: 10 * time.Millisecond, Do: s.takeOwn})
}
