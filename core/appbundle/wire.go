package appbundle

import (
	"google.golang.org/protobuf/encoding/protowire"
)

// part is a field of a message as it lies there: whole with its tag, and its content when it is a message or a text.
type part struct {
	number  protowire.Number
	whole   []byte
	content []byte
}

// message takes a message apart, so that it can be put together again with other parts in it.
func message(b []byte) (list []part, err error) {
	for len(b) > 0 {
		number, kind, tag := protowire.ConsumeTag(b)
		if tag < 0 {
			return nil, protowire.ParseError(tag)
		}
		n := protowire.ConsumeFieldValue(number, kind, b[tag:])
		if n < 0 {
			return nil, protowire.ParseError(n)
		}
		p := part{number: number, whole: b[:tag+n]}
		if kind == protowire.BytesType {
			p.content, _ = protowire.ConsumeBytes(b[tag:])
		}
		list, b = append(list, p), b[tag+n:]
	}
	return list, nil
}

// first is the content of the first field of a number; nil when there is none.
func first(list []part, number protowire.Number) []byte {
	for _, p := range list {
		if p.number == number {
			return p.content
		}
	}
	return nil
}

// field makes a field of a message or a text.
func field(number protowire.Number, content []byte) []byte {
	return protowire.AppendBytes(protowire.AppendTag(nil, number, protowire.BytesType), content)
}

// number makes a field of a number.
func number(of protowire.Number, value uint64) []byte {
	return protowire.AppendVarint(protowire.AppendTag(nil, of, protowire.VarintType), value)
}

func join(list []part) (b []byte) {
	for _, p := range list {
		b = append(b, p.whole...)
	}
	return b
}
