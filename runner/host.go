package runner

import (
	"runtime"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/disk"
)

// hostAt is what the machine is like whose jobs work in a folder.
func hostAt(place string) *api.RunnerHost {
	h := &api.RunnerHost{CPUs: runtime.NumCPU()}
	h.Load, h.Memory, h.MemoryFree = loadAndMemory()
	if space, err := disk.Of(place); err == nil {
		h.Disk, h.DiskFree = space.Total, space.Free
	}
	return h
}
