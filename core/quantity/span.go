package quantity

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Span writes how long something took: in milliseconds up to ten seconds, then with a tenth of a second.
func Span(d time.Duration) string {
	if d >= 10*time.Second {
		return d.Round(100 * time.Millisecond).String()
	}
	return fmt.Sprintf("%d ms", d.Milliseconds())
}

// ParseSpan reads a span of time: what time.ParseDuration does, with whole days of 24 hours before it, such as "3d12h".
func ParseSpan(text string) (time.Duration, error) {
	days, rest, has := strings.Cut(text, "d")
	if !has {
		return time.ParseDuration(text)
	}
	n, err := strconv.ParseUint(days, 10, 16)
	if err != nil {
		return 0, err
	}
	all := time.Duration(n) * 24 * time.Hour
	if rest == "" {
		return all, nil
	}
	more, err := time.ParseDuration(rest)
	if err == nil && more < 0 {
		err = strconv.ErrRange
	}
	return all + more, err
}
