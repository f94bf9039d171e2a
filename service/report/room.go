// Package report tells what is known: runs with all that happened in them, what changed since one passed, what is kept
// and for how long, and to those who listen what happens now.
package report

import (
	"time"

	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/service/caches"
	"gentlepiston.example/piston/service/gates"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/service/work"
)

// Report is the room of reports.
type Report struct {
	*ground.Ground
	work   *work.Work
	gates  *gates.Gates
	logs   *logs.Logs
	caches *caches.Caches
	blobs  *blob.Blobs
}

// New makes it.
func New(g *ground.Ground, w *work.Work, a *gates.Gates, l *logs.Logs, c *caches.Caches, blobs *blob.Blobs) *Report {
	return &Report{g, w, a, l, c, blobs}
}

// Background starts its loops.
func (s *Report) Background() {
	s.OneOfAll(ground.Upkeep{What: "giving up what is kept no longer", Every: sweepEvery, Do: s.Sweep})
	s.Loop(ground.Upkeep{What: "making room on the disk", Every: 10 * time.Second,
		Do: s.MakeRoom})
}
