// Package quantity writes and reads sizes as people do.
package quantity

import (
	"fmt"
	"strconv"
	"strings"
)

// Bytes writes a size in units of 1000 (IEC 80000-13).
func Bytes(n int64) string {
	switch {
	case n >= 1e9:
		return fmt.Sprintf("%.2f GB", float64(n)/1e9)
	case n >= 1e6:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	case n >= 1e3:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	}
	return fmt.Sprintf("%d B", n)
}

// ParseBytes reads a size with a unit of 1000: kB, MB, GB, TB, or bytes without one.
func ParseBytes(text string) (int64, error) {
	units := map[string]float64{"": 1, "b": 1, "kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12}
	number := strings.TrimRight(strings.ToLower(text), "bkmgt")
	unit, known := units[strings.ToLower(text)[len(number):]]
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if err != nil || !known || !(v >= 0 && v*unit <= 1<<60) { // also what is no number at all
		return 0, fmt.Errorf("%q is no size: write a number with kB, MB, GB or TB", text)
	}
	return int64(v * unit), nil
}
