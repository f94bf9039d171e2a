package android

// ReadProtoTable reads a resource table in protocol buffers, as app bundles have it (aapt2, Resources.proto:
// ResourceTable).
func ReadProtoTable(b []byte) (*Table, error) {
	t := &Table{map[uint32][]Variant{}, map[string]bool{}}
	left := maxResources
	err := fields(b, func(f field) error {
		if f.number != 2 { // Package
			return nil
		}
		return t.protoPackage(f.bytes, &left)
	})
	return t, err
}

// idOf reads the message of an id: its field 1 is the number.
func idOf(b []byte) (id uint32, err error) {
	err = fields(b, func(f field) error {
		if f.number == 1 {
			id = uint32(f.value)
		}
		return nil
	})
	return id, err
}

// each gives the messages of one field after the id, which stands in field 1 and may come later.
func each(b []byte, id uint32, shift int, number int, do func(id uint32, b []byte) error) error {
	var all [][]byte
	err := fields(b, func(f field) error {
		switch int(f.number) {
		case 1:
			own, err := idOf(f.bytes)
			if len(f.bytes) == 0 {
				own = uint32(f.value) // of a type it is a plain number
			}
			id |= own << shift
			return err
		case number:
			all = append(all, f.bytes)
		}
		return nil
	})
	for _, message := range all {
		if err == nil {
			err = do(id, message)
		}
	}
	return err
}

func (t *Table) protoPackage(b []byte, left *int) error {
	return each(b, 0, 24, 3, func(id uint32, b []byte) error {
		return each(b, id, 16, 3, func(id uint32, b []byte) error {
			return each(b, id, 0, 6, func(id uint32, b []byte) error {
				if *left--; *left < 0 {
					return &FormatError{0, "it has too many resources"}
				}
				return t.protoValue(id, b)
			})
		})
	})
}

// protoValue reads a ConfigValue: for which device, and what the resource is there.
func (t *Table) protoValue(id uint32, b []byte) error {
	var v Variant
	language, is := "", false
	err := fields(b, func(f field) error {
		switch f.number {
		case 1: // Configuration
			return fields(f.bytes, func(f field) error {
				switch f.number {
				case 3:
					language = string(f.bytes)
				case 18:
					v.Density = int(f.value)
				}
				return nil
			})
		case 2: // Value
			return fields(f.bytes, func(f field) error {
				if f.number != 4 {
					return nil
				}
				is = true
				return v.item(f.bytes)
			})
		}
		return nil
	})
	if language != "" {
		t.languages[language] = true
	}
	if is && err == nil {
		t.values[id] = append(t.values[id], v)
	}
	return err
}

// item reads an Item: a reference, a text or a file.
func (v *Variant) item(b []byte) error {
	return fields(b, func(f field) error {
		switch f.number {
		case 1: // Reference
			return fields(f.bytes, func(f field) error {
				if f.number == 2 {
					v.Ref = uint32(f.value)
				}
				return nil
			})
		case 2, 3, 5: // String, RawString, FileReference
			return fields(f.bytes, func(f field) error {
				if f.number == 1 {
					v.Text = string(f.bytes)
				}
				return nil
			})
		}
		return nil
	})
}
