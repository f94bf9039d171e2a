// Package version holds what the service knows of version names and build numbers.
package version

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
)

// BuildNumber counts the builds of an app, from 1. The stores call it versionCode (Android manifest,
// android:versionCode, at most 2 100 000 000) and CFBundleVersion (Information Property List Key Reference).
type BuildNumber int64

// MaxBuildNumber is the largest an Android store takes.
const MaxBuildNumber BuildNumber = 2_100_000_000

// ErrNoName says that a file holds no version name.
var ErrNoName = errors.New("no version name")

var (
	nameForm = regexp.MustCompile(`^[0-9]+(\.[0-9]+){0,3}(-[0-9A-Za-z.-]+)?$`)
	preForm  = regexp.MustCompile(`^[A-Za-z]+$`)
	tagForm  = regexp.MustCompile(`(?:^|[-/_@])v?([0-9]+(?:\.[0-9]+){0,3}(?:-[0-9A-Za-z.-]+)?)$`)
)

// Name reads a version name from the first line of a file's text: one to four numbers parted by dots, optionally
// followed by - and a pre-release (Semantic Versioning 2.0.0, item 9). A leading v is dropped.
func Name(text string) (string, error) {
	line, _, _ := strings.Cut(text, "\n")
	name := strings.TrimPrefix(strings.TrimSpace(line), "v")
	if len(name) > 64 || !nameForm.MatchString(name) {
		return "", fmt.Errorf("%w: the first line is %.40q; write numbers with dots, such as 1.4.0", ErrNoName, line)
	}
	return name, nil
}

// OfTag finds the version name at the end of a tag, such as v1.4.0 or almanac/1.4.0; its error wraps ErrNoName.
func OfTag(tag string) (Parts, error) {
	m := tagForm.FindStringSubmatch(tag)
	if m == nil {
		return Parts{}, fmt.Errorf("%w: the tag %.60q ends with none; name it as v1.4.0", ErrNoName, tag)
	}
	return Parse(m[1])
}

// ByDate gives the next name of year, month and a counter, such as 2026.11.3.
func (p Parts) ByDate(now time.Time) Parts {
	next := Parts{Numbers: []int64{int64(now.Year()), int64(now.Month()), 1}}
	if p.number(0) == next.Numbers[0] && p.number(1) == next.Numbers[1] {
		next.Numbers[2] = p.number(2) + 1
	}
	return next
}
