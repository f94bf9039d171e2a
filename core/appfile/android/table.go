package android

import (
	"slices"
	"strings"
)

// Table is a resource table: what each resource is, for each kind of device.
type Table struct {
	values    map[uint32][]Variant
	languages map[string]bool
}

// Variant is what a resource is for a kind of device. Ref is another resource that it is; 0 for a value of its own.
type Variant struct {
	Density int // dots per inch; 0 for any, 0xfffe for what fits all, 0xffff for none
	Text    string
	Ref     uint32
}

// maxResources bounds the entries that are read.
const maxResources = 2_000_000

// ReadTable reads a resource table in its binary form.
func ReadTable(b []byte) (*Table, error) {
	whole, _, err := piece{b, 0}.first()
	if err != nil {
		return nil, err
	}
	if whole.kind != chunkTable {
		return nil, whole.wrong(0, "this is no resource table")
	}
	t, left := &Table{map[uint32][]Variant{}, map[string]bool{}}, maxResources
	var pool texts
	err = whole.body().each(func(c chunk) (err error) {
		switch c.kind {
		case chunkStrings:
			pool, err = readTexts(c)
		case chunkPackage:
			err = t.pack(c, pool, &left)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return t, nil
}

func (t *Table) pack(c chunk, pool texts, left *int) error {
	id, ok := c.u32(chunkHeader)
	if !ok {
		return c.wrong(0, "a package is cut off")
	}
	return c.body().each(func(part chunk) error {
		if part.kind != chunkType {
			return nil
		}
		return t.kind(part, id<<24, pool, left)
	})
}

// The ways in which the entries of a type are listed.
const (
	listSparse = 1
	listShort  = 2
)

// kind reads the entries of one type for one kind of device.
func (t *Table) kind(c chunk, id uint32, pool texts, left *int) error {
	if c.header < 20+28 {
		return c.wrong(0, "a type has too short a header")
	}
	id |= uint32(c.b[8]) << 16
	how, count, start := c.b[9], little.Uint32(c.b[12:]), little.Uint32(c.b[16:])
	if uint64(start) > uint64(len(c.b)) || uint64(count) > uint64(len(c.b)) {
		return c.wrong(12, "a type says it has more than fits")
	}
	language, density := device(c.b[20:c.header])
	list := c.body()
	for i := range int(count) {
		n, offset := i, uint32(noText)
		switch {
		case how&listSparse != 0:
			number, _ := list.u16(i * 4)
			short, ok := list.u16(i*4 + 2)
			if n = int(number); ok {
				offset = uint32(short) * 4
			}
		case how&listShort != 0:
			if short, ok := list.u16(i * 2); ok && short != 0xffff {
				offset = uint32(short) * 4
			}
		default:
			if full, ok := list.u32(i * 4); ok {
				offset = full
			}
		}
		if offset == noText || uint64(start)+uint64(offset) > uint64(len(c.b)) {
			continue
		}
		if *left--; *left < 0 {
			return c.wrong(0, "it has too many resources")
		}
		if language != "" {
			t.languages[language] = true
		}
		if v, ok := entry(c.piece, int(start+offset), pool); ok {
			v.Density = density
			t.values[id|uint32(n&0xffff)] = append(t.values[id|uint32(n&0xffff)], v)
		}
	}
	return nil
}

// The flags of an entry.
const (
	entryMany    = 1 // a bag of values
	entryCompact = 8
)

// entry reads what a resource is; false for bags.
func entry(p piece, at int, pool texts) (v Variant, ok bool) {
	size, _ := p.u16(at)
	flags, there := p.u16(at + 2)
	if !there || flags&entryMany != 0 {
		return v, false
	}
	if flags&entryCompact != 0 {
		data, there := p.u32(at + 4)
		v.Text, v.Ref = value(byte(flags>>8), data, pool)
		return v, there
	}
	if at += int(size); at+8 > len(p.b) {
		return v, false
	}
	v.Text, v.Ref = value(p.b[at+3], little.Uint32(p.b[at+4:]), pool)
	return v, true
}

// device tells for which language and density a configuration is (ResTable_config).
func device(config []byte) (language string, density int) {
	if len(config) < 16 {
		return "", 0
	}
	density = int(little.Uint16(config[14:]))
	a, b := config[8], config[9]
	switch {
	case a == 0:
		return "", density
	case a&0x80 != 0: // three letters, five bits each
		language = string([]byte{'a' + b&0x1f, 'a' + (b>>5|a<<3)&0x1f, 'a' + a>>2&0x1f})
	default:
		language = string([]byte{a, b})
	}
	if r, s := config[10], config[11]; r&0x80 == 0 && r != 0 {
		language += "-" + string([]byte{r, s})
	}
	return strings.ToValidUTF8(language, "?"), density
}

// Languages lists those that texts are there in.
func (t *Table) Languages() []string {
	list := []string{}
	for l := range t.languages {
		list = append(list, l)
	}
	slices.Sort(list)
	return list
}

// Resolve gives what a resource is for each kind of device, wherever references lead.
func (t *Table) Resolve(id uint32) []Variant { return t.resolve(id, map[uint32]bool{}) }

// resolve follows each resource once, since references may lead in circles.
func (t *Table) resolve(id uint32, seen map[uint32]bool) (out []Variant) {
	if seen[id] {
		return nil
	}
	seen[id] = true
	for _, v := range t.values[id] {
		if v.Ref == 0 {
			out = append(out, v)
		} else {
			out = append(out, t.resolve(v.Ref, seen)...)
		}
	}
	return out
}
