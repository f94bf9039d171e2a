package runner

import (
	"fmt"
	"os"
	"strings"
)

// loadAndMemory reads what the kernel says (proc(5)): the load over the last minute, and bytes of memory, all and those
// that programs could be given. Zero is what it does not say.
func loadAndMemory() (load float64, memory, free int64) {
	text, _ := os.ReadFile("/proc/loadavg")
	_, _ = fmt.Sscan(string(text), &load)
	text, _ = os.ReadFile("/proc/meminfo")
	for line := range strings.Lines(string(text)) {
		var name string
		var kB int64
		if _, err := fmt.Sscan(line, &name, &kB); err != nil {
			continue
		}
		switch name {
		case "MemTotal:":
			memory = kB << 10
		case "MemAvailable:":
			free = kB << 10
		}
	}
	return max(0, load), memory, free
}
