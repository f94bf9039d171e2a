package versionfile

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// node is a value of an old-style property list (Apple, "Old-Style ASCII Property Lists"): a text, a list, or a
// dictionary.
type node struct {
	start, end int // of a text, without its quotes
	text       string
	keys       []string // of a dictionary, in their order
	values     []*node  // of a dictionary or a list
}

func (n *node) get(key string) *node {
	if n == nil {
		return nil
	}
	if i := slices.Index(n.keys, key); i >= 0 {
		return n.values[i]
	}
	return nil
}

func (n *node) string(key string) string {
	if v := n.get(key); v != nil {
		return v.text
	}
	return ""
}

// oldPlist parses one.
type oldPlist struct {
	s     string
	i     int
	depth int
}

var errNoPlist = errors.New("it is no property list")

func (p *oldPlist) space() {
	for p.i < len(p.s) {
		switch c := p.s[p.i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			p.i++
		case strings.HasPrefix(p.s[p.i:], "//"):
			p.i += lineEnd(p.s[p.i:])
		case strings.HasPrefix(p.s[p.i:], "/*"):
			n := strings.Index(p.s[p.i:], "*/")
			if n < 0 {
				p.i = len(p.s)
				return
			}
			p.i += n + 2
		default:
			return
		}
	}
}

func (p *oldPlist) take(c byte) bool {
	p.space()
	if p.i < len(p.s) && p.s[p.i] == c {
		p.i++
		return true
	}
	return false
}

func (p *oldPlist) value() (*node, error) {
	if p.depth++; p.depth > maxNesting {
		return nil, errors.New("it nests deeper than 100")
	}
	defer func() { p.depth-- }()
	switch {
	case p.take('{'):
		n := &node{}
		for !p.take('}') {
			key, err := p.word()
			if err != nil {
				return nil, err
			}
			if !p.take('=') {
				return nil, fmt.Errorf("%w: behind the key %.40q there is no =", errNoPlist, key.text)
			}
			v, err := p.value()
			if err != nil {
				return nil, err
			}
			n.keys, n.values = append(n.keys, key.text), append(n.values, v)
			if !p.take(';') {
				return nil, fmt.Errorf("%w: behind the value of %.40q there is no ;", errNoPlist, key.text)
			}
		}
		return n, nil
	case p.take('('):
		n := &node{}
		for !p.take(')') {
			v, err := p.value()
			if err != nil {
				return nil, err
			}
			n.values = append(n.values, v)
			if !p.take(',') && !p.ahead(')') {
				return nil, fmt.Errorf("%w: a list has no comma", errNoPlist)
			}
		}
		return n, nil
	}
	return p.word()
}

func (p *oldPlist) ahead(c byte) bool {
	p.space()
	return p.i < len(p.s) && p.s[p.i] == c
}

func (p *oldPlist) word() (*node, error) {
	p.space()
	start := p.i
	if p.i < len(p.s) && (p.s[p.i] == '"' || p.s[p.i] == '\'') {
		quote := p.s[p.i]
		for p.i++; p.i < len(p.s) && p.s[p.i] != quote; p.i++ {
			if p.s[p.i] == '\\' {
				p.i++
			}
		}
		if p.i >= len(p.s) {
			p.i = start
			return nil, fmt.Errorf("%w: a text has no end", errNoPlist)
		}
		p.i++
		return &node{start: start + 1, end: p.i - 1, text: p.s[start+1 : p.i-1]}, nil
	}
	for p.i < len(p.s) && !strings.ContainsRune(" \t\r\n;=,(){}<>\"'", rune(p.s[p.i])) {
		p.i++
	}
	if p.i == start {
		return nil, fmt.Errorf("%w: a value is missing", errNoPlist)
	}
	return &node{start: start, end: p.i, text: p.s[start:p.i]}, nil
}

// xcodeProject reads a project.pbxproj: the build settings of all targets and configurations but those of tests.
func xcodeProject(f *finder, t *text) {
	p := &oldPlist{s: t.s}
	root, err := p.value()
	if err != nil {
		f.problem(t.problem(p.i, err.Error()))
		return
	}
	objects := root.get("objects")
	if objects == nil {
		f.problem(t.problem(0, "it has no objects"))
		return
	}
	byID := make(map[string]*node, len(objects.keys))
	for i, id := range objects.keys {
		byID[id] = objects.values[i]
	}
	done := map[string]bool{} // a configuration belongs to one
	for _, o := range objects.values {
		isa := o.string("isa")
		name := o.string("name")
		switch {
		case isa == "PBXProject":
			name = ""
		case isa != "PBXNativeTarget" || strings.Contains(o.string("productType"), "-test"):
			continue
		}
		list := byID[o.string("buildConfigurationList")].get("buildConfigurations")
		if list == nil {
			continue
		}
		for _, id := range list.values {
			if !done[id.text] {
				done[id.text] = true
				f.configuration(t, byID[id.text], name)
			}
		}
	}
}

// configuration reads the settings of one.
func (f *finder) configuration(t *text, c *node, target string) {
	s := c.get("buildSettings")
	if s == nil {
		return
	}
	of := c.string("name")
	if target != "" {
		of = target + "/" + of
	}
	for i, key := range s.keys {
		if v := s.values[i]; v.text != "" {
			f.setting(t, "Xcode project", key, of, v.start, v.end)
		}
	}
}
