package ground

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/disk"
)

// DefaultReserve is how much of the disk is kept free of jobs' files unless told otherwise, in bytes.
const DefaultReserve = 1_000_000_000

// Space watches how much room the data folder's disk has.
type Space struct {
	dir     string
	Reserve int64 // bytes that are kept free

	mu     sync.Mutex
	looked time.Time
	err    error
}

// lookEvery is for how long an answer counts.
const lookEvery = time.Second

// errReserve says that the disk is almost full.
type errReserve struct{ free, reserve int64 }

func (e errReserve) Error() string {
	return fmt.Sprintf("the server's disk is almost full: %s are free, and %s are kept in reserve; make room, or keep "+
		"less (piston kept)",
		quantity.Bytes(e.free), quantity.Bytes(e.reserve))
}

// Trouble tells that what is free is less than the reserve; nil when it is not.
func (sp *Space) Trouble() error {
	sp.mu.Lock()
	defer sp.mu.Unlock()
	if time.Since(sp.looked) < lookEvery {
		return sp.err
	}
	sp.looked = time.Now()
	sp.err = nil
	now, err := disk.Of(sp.dir)
	switch {
	case err != nil:
		sp.err = fmt.Errorf("it cannot be asked how full it is: %w", err)
	case now.Free < sp.Reserve:
		sp.err = errReserve{now.Free, sp.Reserve}
	}
	return sp.err
}

// Again has the next question asked of the disk itself.
func (sp *Space) Again() {
	sp.mu.Lock()
	sp.looked = time.Time{}
	sp.mu.Unlock()
}

// Held tells why no job is handed out; "" when they are. A disk that cannot be asked holds nothing up.
func (sp *Space) Held() string {
	var full errReserve
	if errors.As(sp.Trouble(), &full) {
		return full.Error()
	}
	return ""
}
