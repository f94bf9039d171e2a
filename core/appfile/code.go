package appfile

import (
	"bytes"
	"encoding/binary"
	"path"
	"strings"

	"gentlepiston.example/piston/core/archive"
)

// Code is a file of code for Android's own machine.
type Code struct {
	Path string `json:"path"`
	// Of its format, such as 035.
	Format  string `json:"format"`
	Classes int    `json:"classes"`
	// Those that it names, its own and others.
	Methods int `json:"methods"`
}

// dexHeader is how long the header of a file of code is (source.android.com, "Dalvik executable format").
const dexHeader = 0x70

// code reads the headers of the files of code.
func (p *Package) code() error {
	for _, e := range p.Entries() {
		if e.Folder() || path.Ext(e.Name) != ".dex" || !p.isCode(e) {
			continue
		}
		b, err := p.beginning(e, dexHeader)
		if err != nil {
			return err
		}
		if c, is := readDex(b); is {
			c.Path = e.Name
			p.Code = append(p.Code, c)
		}
	}
	return nil
}

// isCode tells whether an entry lies where a device looks for code.
func (p *Package) isCode(e *archive.Entry) bool {
	if p.Kind == Bundle {
		return strings.HasSuffix(path.Dir(e.Name), "/dex")
	}
	return !strings.Contains(e.Name, "/")
}

// readDex reads a header; false when it is none.
func readDex(b []byte) (c Code, is bool) {
	if len(b) < dexHeader || !bytes.HasPrefix(b, []byte("dex\n")) {
		return c, false
	}
	for _, digit := range b[4:7] {
		if digit < '0' || digit > '9' {
			return c, false
		}
	}
	count := func(at int) int { return int(binary.LittleEndian.Uint32(b[at:])) }
	return Code{Format: string(b[4:7]), Classes: count(0x60), Methods: count(0x58)}, true
}
