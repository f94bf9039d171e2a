package definition

import (
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// position is a place in a file: line and column from 1, the column in bytes.
type position struct{ line, col int }

// key is the path of a value in a file, its parts joined by an unlikely separator so that dots in quoted keys
// cannot be taken for levels. Elements of arrays of tables are numbered from 0.
type key string

func keyOf(parts ...string) key { return key(strings.Join(parts, "\x1f")) }

func (k key) parts() []string { return strings.Split(string(k), "\x1f") }

// index holds where each key of a document is written, and the order in which keys first appear.
type index struct {
	places map[key]position
	order  []key
}

// place returns where a key is written, or the nearest enclosing key's place.
func (ix *index) place(parts ...string) position {
	for n := len(parts); n > 0; n-- {
		if p, ok := ix.places[keyOf(parts[:n]...)]; ok {
			return p
		}
	}
	return position{line: 1, col: 1}
}

// buildIndex walks the syntax tree of a document that is known to parse.
func buildIndex(text []byte) (*index, error) {
	ix := &index{places: map[key]position{}}
	arrays := map[key]int{}
	var p unstable.Parser
	p.Reset(text)
	var table []string
	for p.NextExpression() {
		node := p.Expression()
		switch node.Kind {
		case unstable.Table, unstable.ArrayTable:
			parts, places := keyParts(&p, node)
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

func keyParts(p *unstable.Parser, node *unstable.Node) (parts []string, places []position) {
	for it := node.Key(); it.Next(); {
		k := it.Node()
		parts = append(parts, string(k.Data))
		start := p.Shape(k.Raw).Start
		places = append(places, position{start.Line, start.Column})
	}
	return parts, places
}

func (ix *index) add(parts []string, at position) {
	k := keyOf(parts...)
	if _, seen := ix.places[k]; !seen {
		ix.places[k] = at
		ix.order = append(ix.order, k)
	}
}

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
	parts, places := keyParts(p, node)
	full := append([]string(nil), table...)
	for i, part := range parts {
		full = append(full, part)
		ix.add(append([]string(nil), full...), places[i])
	}
	ix.addValue(p, node.Value(), full, places[len(places)-1])
}

func (ix *index) addValue(p *unstable.Parser, value *unstable.Node, at []string, place position) {
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
				start := p.Shape(child.Raw).Start
				where = position{start.Line, start.Column}
			}
			element := append(append([]string(nil), at...), strconv.Itoa(n))
			ix.add(element, where)
			ix.addValue(p, child, element, where)
			n++
		}
	}
}
