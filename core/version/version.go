// Package version holds what the service knows of version names and build numbers.
package version

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
)

// BuildNumber counts the builds of an app, from 1. The stores call it versionCode (Android manifest,
// android:versionCode, at most 2 100 000 000) and CFBundleVersion (Information Property List Key Reference).
type BuildNumber int64

// MaxBuildNumber is the largest an Android store takes.
const MaxBuildNumber BuildNumber = 2_100_000_000

// ErrNoName says that a file holds no version name.
var ErrNoName = errors.New("no version name")

var nameForm = regexp.MustCompile(`^[0-9]+(\.[0-9]+){0,3}(-[0-9A-Za-z.-]+)?$`)

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
