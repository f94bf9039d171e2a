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
	s.Loop(time.Second, nil, "looking for lost runners", s.loseSilent)
	s.Loop(time.Second, nil, "ending runs over their limit", s.stopOverdue)
	s.Loop(10*time.Millisecond, nil, "handing out jobs", s.dispatch.run) // for as long as the service lives
}
