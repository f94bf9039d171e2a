package quantity

import (
	"fmt"
	"time"
)

// Span writes how long something took: in milliseconds up to ten seconds, then with a tenth of a second.
func Span(d time.Duration) string {
	if d >= 10*time.Second {
		return d.Round(100 * time.Millisecond).String()
	}
	return fmt.Sprintf("%d ms", d.Milliseconds())
}
