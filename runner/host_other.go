//go:build !linux

package runner

// loadAndMemory is not known here.
func loadAndMemory() (load float64, memory, free int64) { return 0, 0, 0 }
