package api

import (
	"time"

	"gentlepiston.example/piston/core/keep"
)

// KeptSum is how much of a kind is kept.
type KeptSum struct {
	Kind  string `json:"kind" enum:"artifact,cache,handover,log"`
	Count int64  `json:"count"`
	Bytes int64  `json:"bytes"`

	GoingCount int64 `json:"going_count" doc:"What of it goes with the next sweep."`
	GoingBytes int64 `json:"going_bytes"`
}

// KeptItem is something that is kept.
type KeptItem struct {
	Kind    string    `json:"kind" enum:"artifact,cache,handover,log"`
	Project string    `json:"project"`
	Run     int64     `json:"run,omitempty"`
	What    string    `json:"what" doc:"The file, the cache, the job."`
	Size    int64     `json:"size"`
	Since   time.Time `json:"since" doc:"When its run ended, or when it was last used."`
	Goes    bool      `json:"goes" doc:"Whether it goes with the next sweep."`
}

// KeptItems is a page of what is kept.
type KeptItems struct {
	Items []KeptItem `json:"items"`
	Next  string     `json:"next,omitempty" doc:"Pass as after to get the following page; absent on the last."`
}

// Kept is what runs have left behind, by which rules it goes, and what goes next.
type Kept struct {
	Rules    keep.Rules `json:"rules" doc:"Those in force."`
	Own      keep.Rules `json:"own" doc:"What of them is this project's own; the rest is of those for all."`
	Sums     []KeptSum  `json:"sums"`
	Frees    int64      `json:"frees" doc:"What the next sweep frees, in bytes."`
	DiskFree int64      `json:"disk_free" doc:"What the disk of the data folder has left, in bytes."`
	Reserve  int64      `json:"reserve" doc:"With less than this no job is handed out, and caches are given up."`
}
