package api

import (
	"time"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/tree"
)

// CacheWanted says which saved copy of a cache a job wants.
type CacheWanted struct {
	Name string `json:"name" maxLength:"250"`
	// What fits has this key.
	Key string `json:"key" pattern:"^[0-9a-f]{64}$"`
	// What may stand for it has this shape: the same name, paths and platform.
	Shape string `json:"shape" pattern:"^[0-9a-f]{64}$"`
	// Sums of the files it follows, by their paths.
	Followed map[string]string `json:"followed" maxProperties:"10000"`
	// Nothing but what fits will do.
	Exact bool `json:"exact,omitempty"`
	// It is what a step has made, and only what fits is restored; of the nearest it is told how it differs.
	Step bool `json:"step,omitempty"`
}

// CacheFound is the copy that fits, or the nearest.
type CacheFound struct {
	ID    record.CacheID `json:"id"`
	Exact bool           `json:"exact"`
	// Digest of its tree; a runner that has it needs no more.
	Tree  string `json:"tree"`
	Size  int64  `json:"size"`
	Files int64  `json:"files"`
	// The run that has saved it, and its branch or proposal.
	Run  record.RunNumber `json:"run"`
	Line string           `json:"line"`
	// Of what it follows, what differs from what is wanted.
	Differs []string `json:"differs"`
}

// CacheSaved describes a tree that is to be kept as the copy of a cache. It stands in a line before the written tree.
type CacheSaved struct {
	CacheWanted
	Job string `json:"job"`
	// The copy it was made from; absent without one.
	Older record.CacheID `json:"older,omitempty"`
	// It is the same as that: no tree follows.
	Same bool `json:"same,omitempty"`
	// Bytes of packs that were stored for it.
	Stored int64 `json:"stored"`
}

// PackStored names a pack.
type PackStored struct {
	Pack tree.PackID `json:"pack"`
}

// PackDamaged reports a pack that is not what it should be.
type PackDamaged struct {
	// 0 for the tree itself.
	Pack tree.PackID `json:"pack"`
	Why  string      `json:"why" maxLength:"1000"`
}

// SavedCache is a saved copy of a cache.
type SavedCache struct {
	ID   record.CacheID `json:"id"`
	Name string         `json:"name"`
	Key  string         `json:"key"`
	// The branch or proposal whose run has saved it.
	Line string           `json:"line"`
	Run  record.RunNumber `json:"run"`
	Job  string           `json:"job"`
	// Bytes of its files, and how many there are.
	Size  int64 `json:"size"`
	Files int64 `json:"files"`
	// Bytes of packs that saving it has added.
	Stored int64 `json:"stored"`
	// Bytes that it takes beside what copies used later have in common with it.
	Takes int64 `json:"takes"`
	// How often it was restored.
	Uses     int64     `json:"uses"`
	Created  time.Time `json:"created"`
	LastUsed time.Time `json:"last_used"`
	// Only runs with the same protected secrets restore it.
	Apart bool `json:"apart,omitempty"`
	// A secret was given to the run that has saved it: no run from outside restores it.
	Gated bool `json:"gated,omitempty"`
	// It is of a proposal from outside, which alone restores it.
	Outside bool `json:"outside,omitempty"`
}

// SavedCaches is a page of saved copies, with what all of them come to.
type SavedCaches struct {
	Items []SavedCache `json:"items"`
	// Give it as after for the next page; absent on the last.
	Next string `json:"next,omitempty"`
	// Bytes of all files, and of what is stored for them: each piece once.
	Size   int64 `json:"size"`
	Takes  int64 `json:"takes"`
	Copies int64 `json:"copies"`
	// What came of them by name, in the last 30 days.
	Names []CacheRecord `json:"names"`
	// Steps that were reused in that time, and what they took when they were run, in milliseconds.
	ReusedSteps int64 `json:"reused_steps"`
	ReusedMs    int64 `json:"reused_ms"`
}

// CacheRecord is what came of a cache of one job, in some time.
type CacheRecord struct {
	Pipeline string `json:"pipeline"`
	Job      string `json:"job"`
	Name     string `json:"name"`
	// How often what fits was there, what is nearest, and nothing.
	Hits    int64 `json:"hits"`
	Nearest int64 `json:"nearest"`
	Misses  int64 `json:"misses"`
	// What its job took in the mean, in milliseconds, where it had what fits, and where it had nothing; absent when that
	// never was. Of passed attempts.
	HitMs  *int64 `json:"hit_ms,omitempty"`
	MissMs *int64 `json:"miss_ms,omitempty"`
	// What hits have saved by that, in milliseconds.
	SavedMs int64 `json:"saved_ms"`
}
