package testreport

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// declared finds the encoding that a declaration names (XML 1.0, section 4.3.3).
var declared = regexp.MustCompile(`^\s*<\?xml[^>]*?\sencoding\s*=\s*["']([\w.:-]{1,40})["']`)

// declaredWithin is how far a declaration reaches, in bytes.
const declaredWithin = 512

// legible reads a report as UTF-8, in whatever it was written. What cases print gets into reports: a colour of a
// terminal, a name in another encoding, half a character where a text was cut. XML knows none of these, and one would
// take all the cases behind it along; in their place is U+FFFD. A NUL stays: no text has one.
func legible(r io.Reader) (io.Reader, error) {
	b := bufio.NewReader(r)
	head, _ := b.Peek(declaredWithin) // a shorter file gives what it has; its error comes again
	from, err := encodingOf(head)
	if err != nil {
		return nil, err
	}
	if bytes.HasPrefix(head, mark) {
		_, _ = b.Discard(len(mark)) // it is there
	}
	if from == nil {
		return transform.NewReader(b, plainXML{}), nil
	}
	return transform.NewReader(b, transform.Chain(from.NewDecoder(), plainXML{})), nil
}

// mark may begin a text in UTF-8 (Unicode, section 23.8).
var mark = []byte("\uFEFF")

// encodingOf tells by its beginning what a file is written in; nil is UTF-8.
func encodingOf(head []byte) (encoding.Encoding, error) {
	if bytes.HasPrefix(head, []byte{0xFE, 0xFF}) || bytes.HasPrefix(head, []byte{0xFF, 0xFE}) {
		return unicode.UTF16(unicode.BigEndian, unicode.ExpectBOM), nil
	}
	head = bytes.TrimPrefix(head, mark)
	label := ""
	if m := declared.FindSubmatch(head); m != nil {
		label = squeezed(string(m[1]))
	}
	switch label {
	case "", "utf8", "usascii", "ascii":
		return nil, nil
	case "latin1":
		label = "iso88591"
	}
	for _, e := range charmap.All {
		if c, named := e.(fmt.Stringer); named && squeezed(c.String()) == label {
			return e, nil
		}
	}
	return nil, fmt.Errorf("%w: it is written in %s, which is not read; have it written in UTF-8", ErrNotJUnit, label)
}

// squeezed is a name of an encoding without what spellings differ in.
func squeezed(name string) string {
	return strings.NewReplacer("-", "", "_", "", " ", "", ".", "", ":", "").Replace(strings.ToLower(name))
}

// plainXML replaces what is no character of XML 1.0 (section 2.2), also where a reference names it.
type plainXML struct{ transform.NopResetter }

// longestReference is that of &#x0010FFFF; with some zeros more.
const longestReference = 16

// Transform implements transform.Transformer.
func (plainXML) Transform(dst, src []byte, atEOF bool) (wrote, read int, err error) {
	for read < len(src) {
		if n := ordinary(src[read:]); n > 0 {
			n = copy(dst[wrote:], src[read:read+n])
			if n == 0 {
				return wrote, read, transform.ErrShortDst
			}
			wrote, read = wrote+n, read+n
			continue
		}
		c, size := rune(src[read]), 1
		if c >= utf8.RuneSelf {
			if !atEOF && !utf8.FullRune(src[read:]) {
				return wrote, read, transform.ErrShortSrc
			}
			c, size = utf8.DecodeRune(src[read:])
		} else if c == '&' {
			n, refers, whole := reference(src[read:])
			if !whole && !atEOF {
				return wrote, read, transform.ErrShortSrc
			}
			if n > 0 && !inXML(refers) {
				c, size = utf8.RuneError, n
			}
		}
		if !inXML(c) {
			c = utf8.RuneError
		}
		if wrote+utf8.RuneLen(c) > len(dst) {
			return wrote, read, transform.ErrShortDst
		}
		wrote += utf8.EncodeRune(dst[wrote:], c)
		read += size
	}
	return wrote, read, nil
}

// ordinary is how many bytes a text begins with that are themselves, whatever comes behind them: most are.
func ordinary(text []byte) (n int) {
	for n < len(text) && (text[n] >= ' ' && text[n] < utf8.RuneSelf && text[n] != '&' || text[n] == '\n') {
		n++
	}
	return n
}

// reference reads a reference to a character by its number at the beginning of a text, n bytes long; n is 0 when there
// is none. It is not whole when more of the text would tell.
func reference(text []byte) (n int, c rune, whole bool) {
	end := bytes.IndexByte(text[:min(len(text), longestReference)], ';')
	switch {
	case len(text) > 1 && text[1] != '#':
		return 0, 0, true
	case end < 0:
		return 0, 0, len(text) >= longestReference
	}
	digits, base := string(text[2:end]), 10
	if hex, is := strings.CutPrefix(digits, "x"); is {
		digits, base = hex, 16
	}
	v, err := strconv.ParseUint(digits, base, 32)
	if err != nil || v > utf8.MaxRune {
		return 0, 0, true // what is wrong with it, XML says
	}
	return end + 1, rune(v), true
}

// inXML tells whether a text may have a character. A NUL is left to XML, which refuses it.
func inXML(c rune) bool {
	switch {
	case c < 0x20:
		return c == '\t' || c == '\n' || c == '\r' || c == 0
	case c >= 0xD800 && c <= 0xDFFF:
		return false
	}
	return c != 0xFFFE && c != 0xFFFF
}
