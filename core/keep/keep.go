// Package keep holds the rules by which what runs leave behind is given up: by age, by count and by size. What a
// release kept is never given up: a run of a tag is one.
package keep

import (
	"errors"
	"fmt"
	"time"
)

// Rules of a project. A zero value takes what the rules for all say; Forever keeps for ever.
type Rules struct {
	// Logs of runs that ended so long ago go; -1 keeps them for ever.
	LogDays int `json:"log_days,omitempty"`
	// Artifacts of runs that ended so long ago go, but those of releases never; -1 keeps them for ever.
	ArtifactDays int `json:"artifact_days,omitempty"`
	// The artifacts of so many latest runs of each pipeline stay whatever their age.
	ArtifactRuns int `json:"artifact_runs,omitempty"`
	// Caches that no run has restored for so long go.
	CacheDays int `json:"cache_days,omitempty"`
	// Most bytes of a project's caches together; those longest not used go first.
	CacheBytes int64 `json:"cache_bytes,omitempty"`
	// What jobs hand on goes so long after its run has ended.
	HandDays int `json:"hand_days,omitempty"`
}

// Forever is the number of days of what never goes.
const Forever = -1

// Default are the rules where nobody has made any.
var Default = Rules{LogDays: 365, ArtifactDays: 90, ArtifactRuns: 5, CacheDays: 30, CacheBytes: 20_000_000_000,
	HandDays: 7}

// most bounds what a rule may say.
const most = 100 * 365

// Check refuses rules that nobody can mean.
func (r Rules) Check() error {
	for name, days := range map[string]int{"log_days": r.LogDays, "artifact_days": r.ArtifactDays,
		"cache_days": r.CacheDays, "hand_days": r.HandDays} {
		if days < Forever || days > most {
			return fmt.Errorf("%s is %d: give a number of days up to %d, or %d for ever", name, days, most, Forever)
		}
	}
	if r.ArtifactRuns < 0 || r.CacheBytes < 0 {
		return errors.New("a count or a size below zero keeps nothing that anybody could mean")
	}
	return nil
}

// Over gives what is not said by what others say.
func (r Rules) Over(others Rules) Rules {
	return Rules{orElse(r.LogDays, others.LogDays), orElse(r.ArtifactDays, others.ArtifactDays),
		orElse(r.ArtifactRuns, others.ArtifactRuns),
		orElse(r.CacheDays, others.CacheDays), orElse(r.CacheBytes, others.CacheBytes), orElse(r.HandDays, others.HandDays)}
}

func orElse[T int | int64](own, other T) T {
	if own == 0 {
		return other
	}
	return own
}

// Before is the time before which something goes that is kept for days; the zero time when it never goes.
func Before(now time.Time, days int) time.Time {
	if days == Forever {
		return time.Time{}
	}
	return now.Add(-time.Duration(days) * 24 * time.Hour)
}
