package definition

import (
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// position is a place in a file: line and column from 1, the column in bytes.
type position struct {
	src       *source
	line, col int
}

// key is the path of a value in a file, its parts joined by an unlikely separator so that dots in quoted keys
// cannot be taken for levels. Elements of arrays of tables are numbered from 0.
type key string

func keyOf(parts ...string) key { return key(strings.Join(parts, "\x1f")) }

func (k key) parts() []string { return strings.Split(string(k), "\x1f") }

// at finds where a piece of the text begins.
func (s *source) at(piece unstable.Range) position {
	starts := s.lines()
	line, exact := slices.BinarySearch(starts, int(piece.Offset))
	if !exact {
		line--
	}
	return position{s, line + 1, int(piece.Offset) - starts[line] + 1}
}

// index holds where each key of a document is written, and the order in which keys first appear.
type index struct {
	src    *source
	places map[key]position
	values map[key]position // where the value begins that stands behind a key
	order  []key
}

// has tells whether something is written.
func (ix *index) has(parts ...string) bool {
	_, is := ix.places[keyOf(parts...)]
	return is
}

// place returns where a key is written, or the nearest enclosing key's place.
func (ix *index) place(parts ...string) position {
	for n := len(parts); n > 0; n-- {
		if p, ok := ix.places[keyOf(parts[:n]...)]; ok {
			return p
		}
	}
	return position{ix.src, 1, 1}
}

// within returns a place inside the text of a key's value, offset characters after its beginning; the key's own place
// when the value is not a text on one line.
func (ix *index) within(offset int, parts ...string) position {
	p, ok := ix.values[keyOf(parts...)]
	if !ok {
		return ix.place(parts...)
	}
	line := p.src.line(p.line)
	if p.col > len(line) || strings.HasPrefix(line[p.col-1:], `'''`) || strings.HasPrefix(line[p.col-1:], `"""`) {
		return ix.place(parts...)
	}
	for i := range line[p.col-1:] {
		if offset < 0 {
			break
		}
		p.col, offset = ix.values[keyOf(parts...)].col+i, offset-1
	}
	return p
}

// graft copies every place below a prefix of another index, to another prefix of this one.
func (ix *index) graft(from *index, prefix, to []string) {
	old, under := keyOf(prefix...), keyOf(prefix...)+"\x1f"
	for _, k := range from.order {
		if k != old && !strings.HasPrefix(string(k), string(under)) {
			continue
		}
		moved := key(string(keyOf(to...)) + strings.TrimPrefix(string(k), string(old)))
		ix.set(moved, from.places[k])
		if v, ok := from.values[k]; ok {
			ix.values[moved] = v
		}
	}
}

// set records a place, unless the key has one.
func (ix *index) set(k key, at position) {
	if _, seen := ix.places[k]; !seen {
		ix.places[k] = at
		ix.order = append(ix.order, k)
	}
}

// buildIndex walks the syntax tree of a document that is known to parse.
func buildIndex(src *source) (*index, error) {
	ix := &index{src: src, places: map[key]position{}, values: map[key]position{}}
	arrays := map[key]int{}
	var p unstable.Parser
	p.Reset(src.text)
	var table []string
	for p.NextExpression() {
		node := p.Expression()
		switch node.Kind {
		case unstable.Table, unstable.ArrayTable:
			parts, places := ix.keyParts(&p, node)
			table = resolve(parts, arrays, node.Kind == unstable.ArrayTable)
			ix.addLevels(table, parts, places)
		case unstable.KeyValue:
			ix.addKeyValue(&p, node, table)
		}
	}
	return ix, p.Error()
}

// resolve inserts element numbers after the names of arrays of tables.
func resolve(parts []string, arrays map[key]int, appendLast bool) []string {
	var out []string
	for i, part := range parts {
		out = append(out, part)
		k := keyOf(out...)
		if appendLast && i == len(parts)-1 {
			arrays[k]++
		}
		if n := arrays[k]; n > 0 {
			out = append(out, strconv.Itoa(n-1))
		}
	}
	return out
}

func (ix *index) keyParts(p *unstable.Parser, node *unstable.Node) (parts []string, places []position) {
	for it := node.Key(); it.Next(); {
		k := it.Node()
		parts = append(parts, string(k.Data))
		places = append(places, ix.src.at(k.Raw))
	}
	return parts, places
}

func (ix *index) add(parts []string, at position) { ix.set(keyOf(parts...), at) }

// addLevels records every level of a table header; numbered levels share the place of their array's name.
func (ix *index) addLevels(resolved, written []string, places []position) {
	w := -1
	for i := range resolved {
		if w+1 < len(written) && resolved[i] == written[w+1] && !numbersArray(resolved, i, w, written) {
			w++
		}
		ix.add(resolved[:i+1], places[max(w, 0)])
	}
}

// numbersArray tells an element number from a key that looks like one: the resolved path is longer by the
// numbers still to come.
func numbersArray(resolved []string, i, w int, written []string) bool {
	if _, err := strconv.Atoi(resolved[i]); err != nil {
		return false
	}
	return len(resolved)-i > len(written)-(w+1)
}

func (ix *index) addKeyValue(p *unstable.Parser, node *unstable.Node, table []string) {
	parts, places := ix.keyParts(p, node)
	full := append([]string(nil), table...)
	for i, part := range parts {
		full = append(full, part)
		ix.add(append([]string(nil), full...), places[i])
	}
	ix.addValue(p, node.Value(), full, places[len(places)-1])
}

func (ix *index) addValue(p *unstable.Parser, value *unstable.Node, at []string, place position) {
	if value.Raw.Length > 0 {
		ix.values[keyOf(at...)] = ix.src.at(value.Raw)
	}
	switch value.Kind {
	case unstable.InlineTable:
		for it := value.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				ix.addKeyValue(p, it.Node(), at)
			}
		}
	case unstable.Array:
		n := 0
		for it := value.Children(); it.Next(); {
			child := it.Node()
			if child.Kind == unstable.Comment {
				continue
			}
			where := place
			if child.Raw.Length > 0 {
				where = ix.src.at(child.Raw)
			}
			element := append(append([]string(nil), at...), strconv.Itoa(n))
			ix.add(element, where)
			ix.addValue(p, child, element, where)
			n++
		}
	}
}
