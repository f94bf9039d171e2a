package version

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Parts is a version name taken apart: one to four numbers, and what stands behind - for a pre-release (Semantic
// Versioning 2.0.0, item 9). The zero value is no name.
type Parts struct {
	Numbers []int64
	Pre     string
}

// maxPart bounds one number of a name: stores compare them as 32-bit integers.
const maxPart = 1<<31 - 1

// Parse takes a version name apart; its error wraps ErrNoName.
func Parse(name string) (Parts, error) {
	if len(name) > 64 || !nameForm.MatchString(name) {
		return Parts{}, fmt.Errorf("%w: %.40q; write numbers with dots, such as 1.4.0", ErrNoName, name)
	}
	numbers, pre, _ := strings.Cut(name, "-")
	p := Parts{Pre: pre}
	for text := range strings.SplitSeq(numbers, ".") {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n > maxPart {
			return Parts{}, fmt.Errorf("%w: %.40q has a number above %d", ErrNoName, name, maxPart)
		}
		p.Numbers = append(p.Numbers, n)
	}
	return p, nil
}

// String writes the name.
func (p Parts) String() string {
	if p.Pre != "" {
		return p.Plain() + "-" + p.Pre
	}
	return p.Plain()
}

// Plain writes the name without its pre-release: all that iOS takes (Information Property List Key Reference,
// CFBundleShortVersionString).
func (p Parts) Plain() string {
	texts := make([]string, len(p.Numbers))
	for i, n := range p.Numbers {
		texts[i] = strconv.FormatInt(n, 10)
	}
	return strings.Join(texts, ".")
}

// number is the i-th number; one that is not written is 0.
func (p Parts) number(i int) int64 {
	if i < len(p.Numbers) {
		return p.Numbers[i]
	}
	return 0
}

// Compare orders names by precedence (Semantic Versioning 2.0.0, item 11): -1 when p is before q. Names that differ
// only in zeros at the end, such as 1.4 and 1.4.0, are the same.
func (p Parts) Compare(q Parts) int {
	for i := range max(len(p.Numbers), len(q.Numbers)) {
		if c := cmp.Compare(p.number(i), q.number(i)); c != 0 {
			return c
		}
	}
	switch {
	case p.Pre == q.Pre:
		return 0
	case p.Pre == "":
		return 1
	case q.Pre == "":
		return -1
	}
	return slices.CompareFunc(strings.Split(p.Pre, "."), strings.Split(q.Pre, "."), compareIdentifiers)
}

// compareIdentifiers orders parts of a pre-release: numbers by their value and before words.
func compareIdentifiers(a, b string) int {
	x, errA := strconv.ParseInt(a, 10, 64)
	y, errB := strconv.ParseInt(b, 10, 64)
	switch {
	case errA == nil && errB == nil:
		return cmp.Compare(x, y)
	case errA == nil:
		return -1
	case errB == nil:
		return 1
	}
	return cmp.Compare(a, b)
}

// Key is a text whose order by bytes is the order of names, so that a database finds the highest by an index.
func (p Parts) Key() string {
	var b strings.Builder
	for i := range 4 {
		fmt.Fprintf(&b, "%010d.", p.number(i))
	}
	if p.Pre == "" {
		return b.String() + "~" // behind all that a pre-release may begin with
	}
	for id := range strings.SplitSeq(p.Pre, ".") {
		if n, err := strconv.ParseInt(id, 10, 64); err == nil {
			fmt.Fprintf(&b, "!%019d ", n) // ! is before letters, a blank before all
			continue
		}
		b.WriteString(id + " ")
	}
	return b.String()
}

// Size is by how much a name is raised.
type Size string

// The sizes, by the number that is raised (Semantic Versioning 2.0.0, items 6 to 8).
const (
	Major Size = "major"
	Minor Size = "minor"
	Patch Size = "patch"
	// Pre raises the last number of the pre-release only.
	Pre Size = "pre"
)

// Sizes lists them.
var Sizes = []Size{Major, Minor, Patch, Pre}

// Raise gives the next name. A pre-release is followed by its release: the patch after 1.5.0-rc.2 is 1.5.0. With pre,
// such as "rc", the next name is a pre-release of that kind: 1.5.0-rc.1, then 1.5.0-rc.2. As many numbers are written
// as p has, or as many as the size needs.
func (p Parts) Raise(by Size, pre string) (Parts, error) {
	if by == Pre && pre == "" {
		pre, _, _ = strings.Cut(p.Pre, ".")
		if pre == "" {
			return Parts{}, fmt.Errorf("%s is no pre-release; say of which kind the next is, such as rc", p)
		}
	}
	if pre != "" && (!preForm.MatchString(pre) || len(pre) > 20) {
		return Parts{}, fmt.Errorf("%.30q is no kind of pre-release; use a word of letters, such as rc", pre)
	}
	next := p.raised(by)
	if pre != "" {
		next.Pre = pre + ".1"
		if kind, n, _ := strings.Cut(p.Pre, "."); p.Pre != "" && slices.Equal(next.Numbers, p.Numbers) && kind >= pre {
			count, err := strconv.ParseInt(n, 10, 32)
			if kind > pre || err != nil && n != "" {
				return Parts{}, fmt.Errorf("a pre-release %s cannot follow %s: it would be before it", pre, p)
			}
			next.Pre = fmt.Sprintf("%s.%d", pre, count+1)
		}
	}
	for _, n := range next.Numbers {
		if n > maxPart {
			return Parts{}, fmt.Errorf("after %s there is no higher name: %d is the most of a number", p, maxPart)
		}
	}
	if name := next.String(); len(name) > 64 {
		return Parts{}, fmt.Errorf("the name after %s would have more than 64 characters", p)
	}
	return next, nil
}

// raised is the release that the size leads to.
func (p Parts) raised(by Size) Parts {
	at := map[Size]int{Major: 0, Minor: 1, Patch: 2}
	i, sized := at[by]
	if !sized {
		i = 2
	}
	next := Parts{Numbers: slices.Clone(p.Numbers)}
	if p.Pre != "" && (!sized || p.endsAt(i)) {
		return next // it leads to this one already
	}
	for len(next.Numbers) <= i {
		next.Numbers = append(next.Numbers, 0)
	}
	next.Numbers[i]++
	for k := i + 1; k < len(next.Numbers); k++ {
		next.Numbers[k] = 0
	}
	return next
}

// endsAt tells that all numbers behind the i-th are 0.
func (p Parts) endsAt(i int) bool {
	for k := i + 1; k < len(p.Numbers); k++ {
		if p.Numbers[k] != 0 {
			return false
		}
	}
	return true
}
