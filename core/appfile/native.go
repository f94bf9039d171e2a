package appfile

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
)

// The numbers of ELF (System V ABI, chapters 4 and 5) that matter here.
const (
	elfLoad     = 1
	elfNote     = 4
	elfBuildID  = 3 // NT_GNU_BUILD_ID
	maxSegments = 128
)

// readELF reads build id and alignment from the beginning of a library; what cannot be read stays empty.
func readELF(b []byte) (p Program) {
	if len(b) < 64 || !bytes.HasPrefix(b, []byte("\x7fELF")) || b[5] != 1 {
		return p
	}
	order, wide := binary.LittleEndian, b[4] == 2
	var at, size, count int
	if wide {
		at, size, count = int(order.Uint32(b[32:])), int(order.Uint16(b[54:])), int(order.Uint16(b[56:]))
	} else {
		at, size, count = int(order.Uint32(b[28:])), int(order.Uint16(b[42:])), int(order.Uint16(b[44:]))
	}
	if need := map[bool]int{true: 56, false: 32}[wide]; size < need || count > maxSegments {
		return p
	}
	for range count {
		if at < 0 || at+size > len(b) {
			break
		}
		s := b[at : at+size]
		at += size
		var from, length, align uint64
		if wide {
			from, length, align = order.Uint64(s[8:]), order.Uint64(s[32:]), order.Uint64(s[48:])
		} else {
			from, length, align = uint64(order.Uint32(s[4:])), uint64(order.Uint32(s[16:])), uint64(order.Uint32(s[28:]))
		}
		switch order.Uint32(s) {
		case elfLoad:
			if align < 1<<30 && (p.Page == 0 || int64(align) < p.Page) {
				p.Page = int64(align)
			}
		case elfNote:
			if from < uint64(len(b)) && length <= uint64(len(b))-from {
				p.BuildID = buildID(b[from:][:length])
			}
		}
	}
	return p
}

// buildID finds a build id among notes.
func buildID(b []byte) string {
	up := func(n uint32) int { return int(min(n, 1<<20)+3) &^ 3 }
	for len(b) >= 12 {
		name, content, kind := binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:]),
			binary.LittleEndian.Uint32(b[8:])
		if b = b[12:]; up(name)+up(content) > len(b) {
			return ""
		}
		if kind == elfBuildID && string(b[:min(name, 4)]) == "GNU\x00" {
			return hex.EncodeToString(b[up(name):][:content])
		}
		b = b[up(name)+up(content):]
	}
	return ""
}
