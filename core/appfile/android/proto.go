package android

import (
	"google.golang.org/protobuf/encoding/protowire"
)

// ReadProto reads a manifest in protocol buffers, as app bundles have it (aapt2, Resources.proto: XmlNode).
func ReadProto(b []byte) (*Element, error) {
	left := maxElements
	e, _, err := node(b, 0, &left)
	if err == nil && e == nil {
		err = &FormatError{0, "it holds no element"}
	}
	return e, err
}

// field is one of a message.
type field struct {
	number protowire.Number
	bytes  []byte
	value  uint64
}

// fields takes a message apart; groups are refused.
func fields(b []byte, do func(f field) error) error {
	for at := 0; at < len(b); {
		number, kind, n := protowire.ConsumeTag(b[at:])
		if n < 0 {
			return &FormatError{at, protowire.ParseError(n).Error()}
		}
		at += n
		f := field{number: number}
		switch kind {
		case protowire.BytesType:
			f.bytes, n = protowire.ConsumeBytes(b[at:])
		case protowire.VarintType:
			f.value, n = protowire.ConsumeVarint(b[at:])
		case protowire.Fixed32Type:
			var v uint32
			v, n = protowire.ConsumeFixed32(b[at:])
			f.value = uint64(v)
		case protowire.Fixed64Type:
			f.value, n = protowire.ConsumeFixed64(b[at:])
		default:
			return &FormatError{at, "a field is of a kind that is not read"}
		}
		if n < 0 {
			return &FormatError{at, protowire.ParseError(n).Error()}
		}
		at += n
		if err := do(f); err != nil {
			return err
		}
	}
	return nil
}

// node reads an XmlNode: 1 is an element, 2 is text.
func node(b []byte, depth int, left *int) (e *Element, text string, err error) {
	if *left--; *left < 0 || depth > maxDepth {
		return nil, "", &FormatError{0, "it is too deep, or has too many elements"}
	}
	err = fields(b, func(f field) error {
		if f.number == 2 {
			text = string(f.bytes)
		}
		if f.number != 1 {
			return nil
		}
		e = &Element{}
		return fields(f.bytes, func(f field) error {
			switch f.number {
			case 3:
				e.Name = string(f.bytes)
			case 4:
				a, err := attribute(f.bytes)
				e.Attributes = append(e.Attributes, a)
				return err
			case 5:
				child, text, err := node(f.bytes, depth+1, left)
				e.Text = words(e.Text, text)
				if child != nil {
					e.Children = append(e.Children, child)
				}
				return err
			}
			return nil
		})
	})
	return e, text, err
}

// attribute reads an XmlAttribute. Its text is the value; a compiled item says more for a reference.
func attribute(b []byte) (a Attribute, err error) {
	err = fields(b, func(f field) error {
		switch f.number {
		case 1:
			a.Space = string(f.bytes)
		case 2:
			a.Name = string(f.bytes)
		case 3:
			a.Value = string(f.bytes)
		case 6:
			return fields(f.bytes, func(item field) error {
				if item.number != 1 { // Reference
					return nil
				}
				return fields(item.bytes, func(f field) error {
					switch f.number {
					case 2:
						a.Ref = uint32(f.value)
					case 3:
						a.Value = "@" + string(f.bytes)
					}
					return nil
				})
			})
		}
		return nil
	})
	return a, err
}
