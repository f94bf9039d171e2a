package version

import (
	"errors"
	"fmt"
	"time"
)

// ErrTooHigh says that a build number would be above what stores take.
var ErrTooHigh = errors.New("the build number is too high")

// Scheme is how build numbers follow each other.
type Scheme string

// The schemes.
const (
	// Count is one more than the last.
	Count Scheme = "count"
	// Date is the day and a counter, such as 2026112601 for the first of 26 November 2026: until 2099 that is below what
	// stores take.
	Date Scheme = "date"
	// FromName puts the numbers of the version name behind each other, each in so many digits.
	FromName Scheme = "name"
)

// Schemes lists them.
var Schemes = []Scheme{Count, Date, FromName}

// Numbering is how an app's build numbers are made.
type Numbering struct {
	Scheme Scheme // "" is Count
	// Digits are those of each number of the name, for FromName; one more than the name has numbers is a counter of the
	// builds of one name.
	Digits []int
	// Span is how many numbers one run takes, for a package for each processor; 0 is 1.
	Span int
}

// Counts tells whether numbers are counted, as a project counts its builds.
func (n Numbering) Counts() bool { return n.Scheme == "" || n.Scheme == Count }

// MaxSpan is the most numbers one run may take.
const MaxSpan = 100

// Next gives the first number of the next build. last is the highest that was ever handed out or stands in a store, in
// whichever scheme; what is given is above it.
func (n Numbering) Next(last BuildNumber, name Parts, now time.Time) (BuildNumber, error) {
	span := BuildNumber(max(1, n.Span))
	next := last + 1
	switch n.Scheme {
	case Date:
		first := BuildNumber(now.Year()*1_000_000+int(now.Month())*10_000+now.Day()*100) + 1
		end := first - 1 + 99
		if next = max(next, first); next+span-1 > end {
			return 0, fmt.Errorf("%w: %d is the last, and %d the highest of today", ErrTooHigh, last, end)
		}
	case FromName:
		first, end, err := n.fromName(name)
		if err != nil {
			return 0, err
		}
		if next = max(next, first); next+span-1 > end {
			return 0, fmt.Errorf("%w: the numbers of %s go from %d to %d, and %d has been handed out",
				ErrTooHigh, name, first, end, last)
		}
	}
	if last < 0 || next > MaxBuildNumber-span+1 {
		return 0, fmt.Errorf("%w: after %d comes none that stores take, which is %d at most",
			ErrTooHigh, last, MaxBuildNumber)
	}
	return next, nil
}

// fromName gives the first and last number of a name.
func (n Numbering) fromName(name Parts) (first, last BuildNumber, err error) {
	if len(name.Numbers) > len(n.Digits) {
		return 0, 0, fmt.Errorf("the name %s has %d numbers, and digits only %d", name, len(name.Numbers), len(n.Digits))
	}
	total := int64(0)
	for i, digits := range n.Digits {
		most := pow10(digits)
		part := name.number(i)
		if part >= most {
			return 0, 0, fmt.Errorf("%w: %d in %s does not fit into %d digits", ErrTooHigh, part, name, digits)
		}
		if total = total*most + part; total > int64(MaxBuildNumber) {
			return 0, 0, fmt.Errorf("%w: the number of %s has more digits than %d, the highest that stores take", ErrTooHigh,
				name, MaxBuildNumber)
		}
	}
	counts := pow10(0)
	if len(n.Digits) > len(name.Numbers) {
		counts = pow10(n.Digits[len(n.Digits)-1])
	}
	first = BuildNumber(total)
	return max(1, first), first + BuildNumber(counts) - 1, nil
}

func pow10(n int) int64 {
	p := int64(1)
	for range min(max(n, 0), 10) {
		p *= 10
	}
	return p
}

// Complaint tells what is wrong with a numbering; "" when nothing is.
func (n Numbering) Complaint() string {
	sum := 0
	for _, d := range n.Digits {
		if sum += d; d < 1 || d > 10 {
			return "digits are from 1 to 10 for each number of the name"
		}
	}
	switch {
	case n.Scheme == FromName && len(n.Digits) == 0:
		return "the scheme name needs digits, such as digits = [2, 2, 2]"
	case n.Scheme != FromName && len(n.Digits) > 0:
		return "digits are for the scheme name only"
	case sum > 10:
		return fmt.Sprintf("the digits are %d together, and %d has 10", sum, MaxBuildNumber)
	case n.Span < 0 || n.Span > MaxSpan:
		return fmt.Sprintf("span is from 1 to %d", MaxSpan)
	}
	return ""
}

// NextOf gives the first number of the next build of each key of last, such as a platform: one number for all, or when
// each counts for itself one each.
func (n Numbering) NextOf(last map[string]BuildNumber, each bool, name Parts,
	now time.Time) (map[string]BuildNumber, error) {
	highest, next := BuildNumber(0), map[string]BuildNumber{}
	for _, from := range last {
		highest = max(highest, from)
	}
	for key, from := range last {
		if !each {
			from = highest
		}
		number, err := n.Next(from, name, now)
		if err != nil {
			return nil, err
		}
		next[key] = number
	}
	return next, nil
}
