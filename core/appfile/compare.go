package appfile

import (
	"cmp"
	"slices"
)

// Growth is how much a group of a package, or an entry, has grown since another package: bytes in the package.
type Growth struct {
	Group string `json:"group"`
	Path  string `json:"path,omitempty"` // "" for the group as a whole
	Was   int64  `json:"was"`            // 0 when it was not there
	Now   int64  `json:"now"`            // 0 when it is gone
}

// Grown is by how many bytes.
func (c Growth) Grown() int64 { return c.Now - c.Was }

// Compare tells what changed from one package to another: groups, and the entries that changed most, at most so many.
func Compare(was, now Facts, most int) (groups, entries []Growth) {
	each, all := map[string]*Growth{}, map[string]*Growth{}
	note := func(p Part, put func(c *Growth)) {
		key := p.Group + "\x00" + p.Path
		if each[key] == nil {
			each[key] = &Growth{Group: p.Group, Path: p.Path}
		}
		if all[p.Group] == nil {
			all[p.Group] = &Growth{Group: p.Group}
		}
		if p.Path != "" {
			put(each[key])
		}
		put(all[p.Group])
	}
	for _, p := range was.Parts {
		note(p, func(c *Growth) { c.Was += p.Packed })
	}
	for _, p := range now.Parts {
		note(p, func(c *Growth) { c.Now += p.Packed })
	}
	groups, entries = []Growth{}, []Growth{}
	for _, c := range all {
		groups = append(groups, *c)
	}
	for _, c := range each {
		if c.Was != c.Now {
			entries = append(entries, *c)
		}
	}
	slices.SortFunc(groups, func(a, b Growth) int {
		return cmp.Or(cmp.Compare(b.Now, a.Now), cmp.Compare(a.Group, b.Group))
	})
	slices.SortFunc(entries, func(a, b Growth) int {
		return cmp.Or(cmp.Compare(magnitude(b), magnitude(a)), cmp.Compare(a.Path, b.Path))
	})
	return groups, entries[:min(len(entries), most)]
}

func magnitude(c Growth) int64 { return max(c.Grown(), -c.Grown()) }
