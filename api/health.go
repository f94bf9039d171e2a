package api

import "strings"

// Health tells whether a service can work.
type Health struct {
	OK    bool         `json:"ok"`
	Parts []HealthPart `json:"parts"`
}

// HealthPart is one thing the service needs.
type HealthPart struct {
	Name string `json:"name" enum:"database,stream,disk"`
	OK   bool   `json:"ok"`
	// What is wrong, and what to do.
	Trouble string `json:"trouble,omitempty"`
}

// Ready tells whether requests can be answered. A disk that is almost full holds jobs up, and not those who look.
func (h Health) Ready() bool {
	for _, p := range h.Parts {
		if !p.OK && p.Name != "disk" {
			return false
		}
	}
	return true
}

// Trouble sums up what is wrong.
func (h Health) Trouble() string {
	var all []string
	for _, p := range h.Parts {
		if !p.OK {
			all = append(all, p.Name+": "+p.Trouble)
		}
	}
	return strings.Join(all, "; ")
}
