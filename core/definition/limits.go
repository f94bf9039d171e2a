package definition

import (
	"fmt"

	"gentlepiston.example/piston/core/quantity"
)

// Limits bound what a job may take. A runner has its own, and the lesser counts; what is absent or zero bounds nothing.
type Limits struct {
	// Most memory of all the job's processes together.
	//
	//	memory = "4GB"
	Memory Size `toml:"memory" json:"memory,omitempty"`
	// Most space the job's files may take.
	//
	//	disk = "10GB"
	Disk Size `toml:"disk" json:"disk,omitempty"`
	// Most bytes the job may print.
	//
	//	log = "20MB"
	Log Size `toml:"log" json:"log,omitempty"`
	// Most bytes of all artifacts together.
	//
	//	keep = "2GB"
	Keep Size `toml:"keep" json:"keep,omitempty"`
	// Most bytes of what the job hands on under one name.
	//
	//	hand = "2GB"
	Hand Size `toml:"hand" json:"hand,omitempty"`
	// Most bytes of one cache, before it is packed; a larger one is not saved.
	//
	//	cache = "5GB"
	Cache Size `toml:"cache" json:"cache,omitempty"`
	// Most processes and threads at a time.
	//
	//	processes = 500
	Processes int `toml:"processes" json:"processes,omitempty"`
	// Most files that one process may have open at a time.
	//
	//	open_files = 4096
	OpenFiles int `toml:"open_files" json:"open_files,omitempty"`
}

// Size is a number of bytes with a unit of 1000, such as 20MB.
type Size string

// Bytes is the size as a number; of a size that was checked.
func (s Size) Bytes() int64 {
	n, err := quantity.ParseBytes(string(s))
	if s == "" || err != nil {
		return 0
	}
	return n
}

// Numbers are limits that can be compared.
type Numbers struct {
	Memory, Disk, Log    int64 // bytes
	Keep, Hand, Cache    int64 // bytes
	Processes, OpenFiles int
}

// Numbers are the limits as numbers; of none, zeros.
func (l *Limits) Numbers() Numbers {
	if l == nil {
		return Numbers{}
	}
	return Numbers{l.Memory.Bytes(), l.Disk.Bytes(), l.Log.Bytes(), l.Keep.Bytes(), l.Hand.Bytes(), l.Cache.Bytes(),
		l.Processes, l.OpenFiles}
}

// Within are the lesser of two limits each.
func (n Numbers) Within(most Numbers) Numbers {
	return Numbers{lesser(n.Memory, most.Memory), lesser(n.Disk, most.Disk), lesser(n.Log, most.Log),
		lesser(n.Keep, most.Keep), lesser(n.Hand, most.Hand), lesser(n.Cache, most.Cache),
		lesser(n.Processes, most.Processes), lesser(n.OpenFiles, most.OpenFiles)}
}

func lesser[T int | int64](a, b T) T {
	if a == 0 || b != 0 && b < a {
		return b
	}
	return a
}

// limits checks what a job says of its own.
func (v *validator) limits(l *Limits, at ...string) {
	if l == nil {
		return
	}
	in := func(key string) []string { return append(append([]string(nil), at...), key) }
	for _, s := range []struct {
		key   string
		size  Size
		least int64
	}{{"memory", l.Memory, 1e6}, {"disk", l.Disk, 1e6}, {"log", l.Log, 1e3}, {"keep", l.Keep, 1}, {"hand", l.Hand, 1},
		{"cache", l.Cache, 1}} {
		if n, err := quantity.ParseBytes(string(s.size)); s.size != "" && (err != nil || n < s.least) {
			v.add("bad-value", fmt.Sprintf("%q is no size of %s or more", string(s.size), quantity.Bytes(s.least)),
				`Write a number with a unit: "500MB", "4GB".`, in(s.key)...)
		}
	}
	for _, s := range []struct {
		key      string
		n, least int
	}{{"processes", l.Processes, 4}, {"open_files", l.OpenFiles, 16}} {
		if s.n != 0 && (s.n < s.least || s.n > 1<<20) {
			v.add("bad-value", fmt.Sprintf("%s is %d", s.key, s.n), fmt.Sprintf("Write a number from %d to %d.", s.least, 1<<20),
				in(s.key)...)
		}
	}
}
