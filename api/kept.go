package api

import (
	"time"

	"gentlepiston.example/piston/core/keep"
	"gentlepiston.example/piston/core/record"
)

// KeptSum is how much of a kind is kept.
type KeptSum struct {
	Kind  string `json:"kind" enum:"artifact,cache,handover,log"`
	Count int64  `json:"count"`
	Bytes int64  `json:"bytes"`

	// What of it goes with the next sweep.
	GoingCount int64 `json:"going_count"`
	GoingBytes int64 `json:"going_bytes"`
}

// KeptItem is something that is kept.
type KeptItem struct {
	Kind    string           `json:"kind" enum:"artifact,cache,handover,log"`
	Project string           `json:"project"`
	Run     record.RunNumber `json:"run,omitempty"`
	// The file, the cache, the job.
	What string `json:"what"`
	Size int64  `json:"size"`
	// When its run ended, or when it was last used.
	Since time.Time `json:"since"`
	// Whether it goes with the next sweep.
	Goes bool `json:"goes"`
}

// KeptItems is a page of what is kept.
type KeptItems struct {
	Items []KeptItem `json:"items"`
	// Pass as after to get the following page; absent on the last.
	Next string `json:"next,omitempty"`
}

// Kept is what runs have left behind, by which rules it goes, and what goes next.
type Kept struct {
	// Those in force.
	Rules keep.Rules `json:"rules"`
	// What of them is this project's own; the rest is of those for all.
	Own  keep.Rules `json:"own"`
	Sums []KeptSum  `json:"sums"`
	// What the next sweep frees, in bytes.
	Frees int64 `json:"frees"`
	// What the disk of the data folder has left, in bytes.
	DiskFree int64 `json:"disk_free"`
	// With less than this no job is handed out, and caches are given up.
	Reserve int64 `json:"reserve"`
}
