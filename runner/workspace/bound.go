package workspace

import (
	"fmt"
	"io/fs"

	"gentlepiston.example/piston/core/quantity"
)

// Bound is what may still be taken of a job's files, by the sizes they say they have: a file of holes takes little of
// the disk and is as long to read as any.
type Bound struct {
	What string // the limit's name
	Most int64  // bytes; 0 any
}

// Less is what is left after some were taken. It never becomes no limit.
func (b Bound) Less(taken int64) Bound {
	if b.Most > 0 {
		b.Most = max(b.Most-taken, 1)
	}
	return b
}

// Check refuses a file that does not fit.
func (b Bound) Check(name string, info fs.FileInfo) error {
	if b.Most <= 0 || info.Size() <= b.Most {
		return nil
	}
	size := quantity.Bytes(info.Size())
	if on := allocated(info); on < info.Size()/2 {
		size += fmt.Sprintf(" (of which %s are more than holes)", quantity.Bytes(on))
	}
	return &TooMuch{fmt.Sprintf("the job's limit of %s is reached: %s has %s, and %s are left", b.What, name, size,
		quantity.Bytes(b.Most))}
}

// Fits refuses what has more bytes in all; largest is the largest file in it, of so many.
func (b Bound) Fits(name string, size int64, largest string, most int64) error {
	if b.Most <= 0 || size <= b.Most {
		return nil
	}
	return &TooMuch{fmt.Sprintf("the job's limit of %s is reached: %s has %s of the %s that are in %s, and %s are allowed",
		b.What, largest, quantity.Bytes(most), quantity.Bytes(size), name, quantity.Bytes(b.Most))}
}

// TooMuch is why something is not taken: it is larger than may be. A pointer, since whoever sends a body compares its
// error.
type TooMuch struct{ text string }

func (e *TooMuch) Error() string { return e.text }

// Final tells that no second try mends it.
func (*TooMuch) Final() {}
