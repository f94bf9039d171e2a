// Package deal parts tests among jobs that run side by side, so that all end together: by what each took before.
//
// It promises that each item is in one share, and the same shares for the same items and times.
package deal

import (
	"cmp"
	"path"
	"slices"
	"strings"
)

// Case is a test case, and what it usually takes, in milliseconds.
type Case struct {
	Suite string `db:"suite"`
	Name  string `db:"name"`
	Ms    int64  `db:"usual_ms"`
}

// Times are what is known of how long items take.
type Times struct {
	whole map[string]int64 // by a case, or a suite, as it is named
	last  map[string]int64 // by the last part of a suite's name
}

// By gathers the times of cases.
func By(list []Case) Times {
	t := Times{map[string]int64{}, map[string]int64{}}
	for _, c := range list {
		suite, name := plain(c.Suite), plain(c.Name)
		t.whole[name] += c.Ms
		if suite == "" {
			continue
		}
		t.whole[suite+"/"+name] += c.Ms
		t.whole[suite] += c.Ms
		t.last[path.Base(suite)] += c.Ms
	}
	return t
}

// Of is what an item takes: a case, by its name or by its suite's and its own; a suite; or a file, which stands for the
// suite that is called like it.
func (t Times) Of(item string) (ms int64, known bool) {
	name := plain(item)
	if ms, known = t.whole[name]; known {
		return ms, true
	}
	if file := plain(strings.TrimSuffix(item, path.Ext(item))); path.Ext(item) != "" {
		if ms, known = t.whole[file]; known {
			return ms, true
		}
		name = file
	}
	ms, known = t.last[path.Base(name)]
	return ms, known
}

// parting are what tools put between the parts of a name.
var parting = strings.NewReplacer(" › ", "/", "::", "/", ".", "/", ":", "/", "#", "/", `\`, "/", " ", "/")

// plain is a name with slashes between its parts, whatever its tool puts there.
func plain(name string) string { return strings.Trim(parting.Replace(strings.TrimSpace(name)), "/") }

// Share is what falls to one of several.
type Share struct {
	Items []string `json:"items"` // in the order in which they were given
	Ms    int64    `json:"ms"`    // what they take in all, as far as that is known
}

// Out deals items, each once, among n. What takes longest is dealt first, each to who has least to do (R. L. Graham,
// Bounds on multiprocessing timing anomalies, 1969: at most a third more than the best there is). known is how many
// have a time; each of the others counts as one of these does on the average.
func Out(items []string, times Times, n int) (shares []Share, known int) {
	type dealt struct {
		at int
		ms int64
	}
	list := make([]dealt, len(items))
	sum := int64(0)
	for i, item := range items {
		ms, is := times.Of(item)
		list[i] = dealt{i, -1}
		if is {
			list[i].ms = ms
			known++
			sum += ms
		}
	}
	average := int64(1)
	if known > 0 {
		average = max(1, sum/int64(known))
	}
	for i := range list {
		if list[i].ms < 0 {
			list[i].ms = average
		}
	}
	slices.SortStableFunc(list, func(a, b dealt) int { return cmp.Compare(b.ms, a.ms) })
	load, to := make([]int64, n), make([]int, len(items))
	count := make([]int, n)
	for _, d := range list {
		least := 0
		for s := range n {
			// Of those that have as little to do, who has fewest: items of no time must not all be one's.
			if load[s] < load[least] || load[s] == load[least] && count[s] < count[least] {
				least = s
			}
		}
		to[d.at] = least
		load[least] += d.ms
		count[least]++
	}
	shares = make([]Share, n)
	for s := range shares {
		shares[s] = Share{[]string{}, load[s]}
	}
	for i, item := range items {
		shares[to[i]].Items = append(shares[to[i]].Items, item)
	}
	return shares, known
}
