package android

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Element is an element of a manifest, whichever form it came in.
type Element struct {
	Name       string
	Attributes []Attribute
	Children   []*Element
	Text       string // in it, between its elements
}

// Attribute is one of an element. Ref is the resource that its value is; 0 for a value of its own.
type Attribute struct {
	Space string // the namespace
	Name  string
	Value string
	Ref   uint32
}

// androidSpace is the namespace of what Android itself knows.
const androidSpace = "http://schemas.android.com/apk/res/android"

// Android gives the value of an attribute that Android knows; "" when it is not there.
func (e *Element) Android(name string) string {
	return e.attribute(androidSpace, name).Value
}

// Of gives the value of an attribute of a namespace; "" when it is not there.
func (e *Element) Of(space, name string) string { return e.attribute(space, name).Value }

// Plain gives the value of an attribute without a namespace.
func (e *Element) Plain(name string) string { return e.attribute("", name).Value }

// Ref gives the resource that an attribute of Android's is; 0 when it is none.
func (e *Element) Ref(name string) uint32 { return e.attribute(androidSpace, name).Ref }

func (e *Element) attribute(space, name string) Attribute {
	for _, a := range e.Attributes {
		if a.Space == space && a.Name == name {
			return a
		}
	}
	return Attribute{}
}

// All gives the children of a name.
func (e *Element) All(name string) (list []*Element) {
	for _, c := range e.Children {
		if c.Name == name {
			list = append(list, c)
		}
	}
	return list
}

// First gives the first child of a name; one without anything when there is none.
func (e *Element) First(name string) *Element {
	if list := e.All(name); len(list) > 0 {
		return list[0]
	}
	return &Element{}
}

// The bounds of a manifest.
const (
	maxDepth    = 64
	maxElements = 100_000
)

// known are the attributes of Android that are told by their resource alone where a shrinker took their names away
// (R.attr of the framework).
var known = map[uint32]string{
	0x01010001: "label", 0x01010002: "icon", 0x01010003: "name", 0x0101000f: "debuggable", 0x01010010: "exported",
	0x0101020c: "minSdkVersion", 0x0101021b: "versionCode", 0x0101021c: "versionName", 0x01010270: "targetSdkVersion",
	0x01010271: "maxSdkVersion", 0x01010272: "testOnly", 0x0101027f: "required", 0x0101052c: "roundIcon",
	0x010104ea: "extractNativeLibs", 0x01010024: "value", 0x010104ec: "usesCleartextTraffic", 0x01010280: "allowBackup",
	0x01010527: "networkSecurityConfig",
}

// ReadXML reads a manifest in its binary form.
func ReadXML(b []byte) (*Element, error) {
	whole, _, err := piece{b, 0}.first()
	if err != nil {
		return nil, err
	}
	if whole.kind != chunkXML {
		return nil, whole.wrong(0, "this is no binary XML")
	}
	var pool texts
	var ids piece
	root := &Element{}
	stack, count := []*Element{root}, 0
	err = whole.body().each(func(c chunk) (err error) {
		switch c.kind {
		case chunkStrings:
			pool, err = readTexts(c)
		case chunkResourceIDs:
			ids = c.body()
		case chunkStartElement:
			var e *Element
			if e, err = element(c, pool, ids); err != nil {
				break
			}
			top := stack[len(stack)-1]
			top.Children = append(top.Children, e)
			stack = append(stack, e)
			if count++; count > maxElements || len(stack) > maxDepth {
				err = c.wrong(0, "it is too deep, or has too many elements")
			}
		case chunkText:
			if n, ok := c.body().u32(0); ok {
				top := stack[len(stack)-1]
				top.Text = words(top.Text, pool.text(n))
			}
		case chunkEndElement:
			if len(stack) == 1 {
				return c.wrong(0, "an element ends that has not begun")
			}
			stack = stack[:len(stack)-1]
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	if len(root.Children) != 1 || len(stack) != 1 {
		return nil, whole.wrong(0, "it does not hold one whole element")
	}
	return root.Children[0], nil
}

// maxWords bounds the text of an element; settings have names there.
const maxWords = 4096

// words puts texts of an element together, without the white space around them.
func words(text, more string) string {
	if text += strings.TrimSpace(more); len(text) > maxWords {
		text = strings.ToValidUTF8(text[:maxWords], "")
	}
	return text
}

// element reads one: after the header where its attributes are and how many.
func element(c chunk, pool texts, ids piece) (*Element, error) {
	p := c.body()
	if len(p.b) < 20 {
		return nil, c.wrong(0, "an element is cut off")
	}
	e := &Element{Name: pool.text(little.Uint32(p.b[4:]))}
	start, size, count := int(little.Uint16(p.b[8:])), int(little.Uint16(p.b[10:])), int(little.Uint16(p.b[12:]))
	if count > 0 && size < 20 || start+size*count > len(p.b) {
		return nil, c.wrong(0, "an element says it has more attributes than fit")
	}
	for i := range count {
		a := p.b[start+i*size:]
		name := little.Uint32(a[4:])
		out := Attribute{Space: pool.text(little.Uint32(a)), Name: pool.text(name)}
		if id, ok := ids.u32(int(min(name, math.MaxInt32/8)) * 4); ok {
			if plain := known[id]; plain != "" && (out.Name == "" || out.Space == "") {
				out.Name, out.Space = plain, androidSpace
			}
		}
		out.Value, out.Ref = value(a[15], little.Uint32(a[16:]), pool)
		if raw := little.Uint32(a[8:]); raw != noText && out.Ref == 0 {
			out.Value = pool.text(raw)
		}
		e.Attributes = append(e.Attributes, out)
	}
	return e, nil
}

// The kinds of values (Res_value).
const (
	valueReference = 0x01
	valueText      = 0x03
	valueFloat     = 0x04
	valueHex       = 0x11
	valueTruth     = 0x12
)

// value gives a value as text, or the resource that it is.
func value(kind byte, data uint32, pool texts) (text string, ref uint32) {
	switch kind {
	case valueReference:
		return fmt.Sprintf("@0x%08x", data), data
	case valueText:
		return pool.text(data), 0
	case valueFloat:
		return strconv.FormatFloat(float64(math.Float32frombits(data)), 'g', -1, 32), 0
	case valueHex:
		return fmt.Sprintf("0x%x", data), 0
	case valueTruth:
		return strconv.FormatBool(data != 0), 0
	}
	return strconv.FormatInt(int64(int32(data)), 10), 0
}
