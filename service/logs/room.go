// Package logs takes the lines of running jobs in, reads and follows them, and moves those of finished jobs to the
// blobs.
package logs

import (
	"time"

	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/service/ground"
)

// Logs is the room of logs.
type Logs struct {
	*ground.Ground
	blobs     *blob.Blobs
	comparing comparing
}

// New makes it.
func New(g *ground.Ground, blobs *blob.Blobs) *Logs { return &Logs{g, blobs, make(comparing, 2)} }

// Background starts its loops.
func (s *Logs) Background() {
	s.Loop(ground.Upkeep{What: "moving logs", Every: 2 * time.Second, Poked: s.Moves(), Rest: 500 * time.Millisecond,
		Do: s.moveLogs})
}
