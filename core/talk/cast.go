package talk

import (
	"encoding/json"
	"fmt"
	"time"
	"unicode/utf8"
)

// Cast writes down what a terminal shows, as asciicast v2: a header, and a line for each time it shows more, with the
// seconds since it began.
type Cast struct {
	began time.Time
	rest  []byte // of a character that was cut in two
}

// NewCast begins one, and gives its header.
func NewCast(size Size, title string, now time.Time) (*Cast, string) {
	size = size.Within()
	header := lineOf(struct {
		Version   int    `json:"version"`
		Width     int    `json:"width"`
		Height    int    `json:"height"`
		Timestamp int64  `json:"timestamp"`
		Title     string `json:"title"`
	}{2, size.Cols, size.Rows, now.Unix(), title})
	return &Cast{began: now}, header
}

// Shows is the line for what is printed; "" when that is not a whole character yet.
func (c *Cast) Shows(text []byte, now time.Time) string {
	all := append(c.rest, text...)
	cut := len(all)
	for back := 1; back < utf8.UTFMax && back <= len(all); back++ {
		if b := all[len(all)-back]; utf8.RuneStart(b) {
			if !utf8.FullRune(all[len(all)-back:]) {
				cut = len(all) - back
			}
			break
		}
	}
	c.rest = append([]byte(nil), all[cut:]...)
	if cut == 0 {
		return ""
	}
	return c.event("o", string(all[:cut]), now)
}

// Resized is the line for another size.
func (c *Cast) Resized(size Size, now time.Time) string {
	return c.event("r", fmt.Sprintf("%dx%d", size.Cols, size.Rows), now)
}

func (c *Cast) event(kind, data string, now time.Time) string {
	at := max(0, now.Sub(c.began)).Round(time.Millisecond).Seconds()
	return lineOf([]any{at, kind, data})
}

func lineOf(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return "" // numbers and texts: it never fails
	}
	return string(text) + "\n"
}
