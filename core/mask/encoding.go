package mask

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// wraps are the lengths at which common programs break a long text of an encoding into lines: Base64 in MIME
// (RFC 2045, section 6.8) and PEM (RFC 7468, section 2), and hexadecimal as xxd -p writes it.
var wraps = struct{ base64, hex []int }{[]int{76, 64}, []int{60}}

// forms calls add with v and everything that is v in another writing.
func forms(v []byte, add func(string)) {
	text := string(v)
	add(text)
	add(string(plain(v)))
	lower := hex.EncodeToString(v)
	add(lower)
	add(strings.ToUpper(lower))
	for _, n := range wraps.hex {
		wrapped(lower, n, add)
		wrapped(strings.ToUpper(lower), n, add)
	}
	for _, between := range []string{":", " "} { // as fingerprints and dumps are written
		add(spaced(lower, between))
		add(spaced(strings.ToUpper(lower), between))
	}
	twice(v, add)
	for _, alphabet := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		for shift := range 3 {
			add(aligned(alphabet, v, shift))
		}
		for _, n := range wraps.base64 {
			wrapped(alphabet.EncodeToString(v), n, add)
		}
	}
	if len(v) > maxEscaped || !utf8.Valid(v) {
		return // nobody writes bytes like these by an escape
	}
	add(url.QueryEscape(text))
	add(url.PathEscape(text))
	for _, kept := range []string{"-_.~", "-_.~!*'()", ""} { // RFC 3986, 2.3; what browsers leave too; nothing
		add(percent(text, kept, "%02X"))
		add(percent(text, kept, "%02x"))
	}
	for _, escapeHTML := range []bool{true, false} {
		q := quoted(text, escapeHTML)
		add(q)
		add(ascii(q))
		add(strings.ReplaceAll(q, "/", `\/`))
	}
	for _, form := range []string{`\u%04x`, `\u%04X`} { // every character by its number
		add(numbered(text, form))
		add(strings.ReplaceAll(numbered(text, form), `\u`, `\\u`)) // in a text that is in JSON itself
	}
	add(strings.ReplaceAll(ascii(quoted(text, false)), "/", `\/`))
	for _, form := range []string{`\x%02x`, `\x%02X`, `\%03o`, `\0%03o`} { // of C, Python and shells
		add(percentBytes(text, form))
	}
	add(strings.ReplaceAll(text, "'", `'\''`)) // POSIX.1-2017 XCU, 2.2.2
	add(strings.ReplaceAll(text, "'", `'"'"'`))
	add(backslashed(text, "\"$`\\"))                                                     // 2.2.3
	add(backslashed(text, " \t!\"#$&'()*,;<>?[\\]^`{|}~="))                              // 2.2.1, as printf %q writes it
	add(strings.NewReplacer(`\`, `\\`, `'`, `\'`, "\t", `\t`, "\r", `\r`).Replace(text)) // $'…'
	add(html.EscapeString(text))                                                         // also Go's encoding/xml
	add(xmlEscaper.Replace(text))
	add(strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(text))
}

// joinable are the writings of v in which white space means nothing, so that they may be broken anywhere.
func joinable(v []byte, add func(string)) {
	lower := hex.EncodeToString(v)
	add(lower)
	add(strings.ToUpper(lower))
	for _, alphabet := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		for shift := range 3 {
			add(aligned(alphabet, v, shift))
		}
	}
}

// twice adds Base64 of Base64: at each alignment of the inner text, what of the outer depends on that alone.
func twice(v []byte, add func(string)) {
	if len(v) > maxEscaped {
		return
	}
	for inner := range 3 {
		once := aligned(base64.RawStdEncoding, v, inner)
		for outer := range 3 {
			add(aligned(base64.RawStdEncoding, []byte(once), outer))
		}
	}
}

// spaced puts something between the bytes of a hexadecimal text.
func spaced(digits, between string) string {
	var b strings.Builder
	for i := 0; i+2 <= len(digits); i += 2 {
		if i > 0 {
			b.WriteString(between)
		}
		b.WriteString(digits[i : i+2])
	}
	return b.String()
}

// numbered writes every character as the numbers of its UTF-16 units.
func numbered(v, form string) string {
	var b strings.Builder
	for _, unit := range utf16.Encode([]rune(v)) {
		fmt.Fprintf(&b, form, unit)
	}
	return b.String()
}

// percentBytes writes every byte by a form.
func percentBytes(v, form string) string {
	var b strings.Builder
	for i := range len(v) {
		fmt.Fprintf(&b, form, v[i])
	}
	return b.String()
}

// maxEscaped is the most bytes of a value that is looked for in the escapes of texts.
const maxEscaped = 64 << 10

// xmlEscaper writes the five predefined entities (XML 1.0, section 4.6).
var xmlEscaper = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;")

// wrapped adds the lines that text has when it is broken every n characters.
func wrapped(text string, n int, add func(string)) {
	for ; len(text) > n; text = text[n:] {
		add(text[:n])
	}
	add(text)
}

// percent percent-encodes every byte but letters, digits and those kept.
func percent(v, kept, form string) string {
	var b strings.Builder
	for i := range len(v) {
		c := v[i]
		if kept != "" && ('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' ||
			strings.IndexByte(kept, c) >= 0) {
			b.WriteByte(c)
			continue
		}
		b.WriteByte('%')
		fmt.Fprintf(&b, form, c)
	}
	return b.String()
}

func backslashed(v, special string) string {
	var b strings.Builder
	for i := range len(v) {
		if strings.IndexByte(special, v[i]) >= 0 {
			b.WriteByte('\\')
		}
		b.WriteByte(v[i])
	}
	return b.String()
}

// quoted is v as the inside of a JSON string (RFC 8259, section 7), with or without <, > and & escaped too.
func quoted(v string, escapeHTML bool) string {
	var b strings.Builder
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(escapeHTML)
	if enc.Encode(v) != nil {
		return ""
	}
	return strings.TrimSuffix(strings.TrimPrefix(b.String(), `"`), "\"\n")
}

// ascii writes what is not ASCII as \u and four digits, as many programs write JSON.
func ascii(v string) string {
	var b strings.Builder
	for _, r := range v {
		if r < utf8.RuneSelf {
			b.WriteRune(r)
			continue
		}
		for _, unit := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(&b, `\u%04x`, unit)
		}
	}
	return b.String()
}

// aligned gives the part of the Base64 text that depends on v alone when v begins shift bytes into a group of
// three (RFC 4648, section 4): the characters that share bits with neighbours are cut off.
func aligned(alphabet *base64.Encoding, v []byte, shift int) string {
	text := alphabet.EncodeToString(append(make([]byte, shift), v...))
	from := []int{0, 2, 3}[shift]
	to := len(text)
	if (shift+len(v))%3 != 0 {
		to--
	}
	if from >= to {
		return ""
	}
	return text[from:to]
}

// plain is v without colours, as the masker sees what it is given.
func plain(v []byte) []byte {
	if bytes.IndexByte(v, escape) < 0 {
		return v
	}
	var out []byte
	for len(v) > 0 {
		if n, _ := sequence(v); n > 0 {
			v = v[n:]
			continue
		}
		out = append(out, v[0])
		v = v[1:]
	}
	return out
}

const escape = 0x1b

// maxSequence is the most bytes of a control sequence, and maxCommand of an operating system command, such as a link;
// what is longer is none.
const (
	maxSequence = 64
	maxCommand  = 2048
)

// sequence measures the control sequence that text begins with: one that sets colours or moves the cursor (CSI;
// ECMA-48, section 5.4), a command to the terminal's system, such as a link or a title (OSC; 8.3.89), or one that
// chooses a character set (ECMA-35, section 13). partial says that more bytes decide.
func sequence(text []byte) (n int, partial bool) {
	if text[0] != escape {
		return 0, false
	}
	if len(text) == 1 {
		return 0, true
	}
	switch text[1] {
	case '(', ')', '*', '+':
		if len(text) == 2 {
			return 0, true
		}
		return 3, false
	}
	if text[1] == ']' {
		return command(text)
	}
	if text[1] != '[' {
		return 0, false
	}
	for i := 2; i < len(text) && i < maxSequence; i++ {
		switch c := text[i]; {
		case 0x40 <= c && c <= 0x7e:
			return i + 1, false
		case c < 0x20 || c > 0x7e:
			return 0, false
		}
	}
	return 0, len(text) < maxSequence
}

// command measures an operating system command, which ends with BEL or ESC \\ (ST).
func command(text []byte) (n int, partial bool) {
	for i := 2; i < len(text) && i < maxCommand; i++ {
		switch c := text[i]; {
		case c == 0x07:
			return i + 1, false
		case c == escape:
			if i+1 == len(text) {
				return 0, true
			}
			if text[i+1] == '\\' {
				return i + 2, false
			}
			return 0, false
		case c < 0x20:
			return 0, false
		}
	}
	return 0, len(text) < maxCommand
}
