package version

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/Masterminds/semver/v3"
)

// Wanted is which versions of a tool will do.
type Wanted struct{ constraint *semver.Constraints }

var wantedForm = regexp.MustCompile(`^(>=|<=|>|<|=)?\s*[0-9]+(\.[0-9]+){0,2}$`)

// ParseWanted reads versions that will do: "*" for any; a version, which stands for all that continue it ("17" for
// 17.0.2, "3.20" for 3.20.1); or bounds, of which all must hold (">=3.20, <4").
func ParseWanted(text string) (Wanted, error) {
	if strings.TrimSpace(text) == "*" {
		return Wanted{}, nil
	}
	if len(text) > 100 {
		return Wanted{}, fmt.Errorf("%.40q… is no version", text)
	}
	for bound := range strings.SplitSeq(text, ",") {
		if !wantedForm.MatchString(strings.TrimSpace(bound)) {
			return Wanted{}, fmt.Errorf("%q is no version or bound of one", text)
		}
	}
	c, err := semver.NewConstraint(text)
	if err != nil {
		return Wanted{}, fmt.Errorf("%q is no version or bound of one: %w", text, err)
	}
	return Wanted{c}, nil
}

// Meets reports whether a version, as a tool tells it, will do. One that holds no number does for "*" only.
func (w Wanted) Meets(found string) bool {
	if w.constraint == nil {
		return true
	}
	v, ok := coerce(found)
	return ok && w.constraint.Check(v)
}

var numbers = regexp.MustCompile(`[0-9]+(\.[0-9]+)*`)

// coerce takes the first three numbers of a version: tools write 14.0.6-1, 1.8.0_292 or 2023.10.1.
func coerce(text string) (*semver.Version, bool) {
	parts := strings.Split(numbers.FindString(text), ".")
	if parts[0] == "" {
		return nil, false
	}
	var n [3]uint64
	for i := range min(3, len(parts)) {
		v, err := strconv.ParseUint(parts[i], 10, 63)
		if err != nil {
			return nil, false
		}
		n[i] = v
	}
	return semver.New(n[0], n[1], n[2], "", ""), true
}
