// Package letter writes what is sent by mail: plain and HTML, which say the same and need no picture.
package letter

import (
	"errors"
	"html/template"
	"net/mail"
	"strings"
)

// Letter is a mail to one person. The HTML holds nothing that is fetched from elsewhere.
type Letter struct {
	Subject string
	Text    string
	HTML    string
}

// Content is what a letter says.
type Content struct {
	Subject string
	Lines   []string // paragraphs
	Action  string   // what the link is for; "" for none
	Link    string
	Foot    string // why one gets it
}

// maxSubject keeps a subject within what is shown of one.
const maxSubject = 150

var page = template.Must(template.New("letter").Parse(`<!doctype html>
<html><body style="font-family:sans-serif;font-size:15px;line-height:1.5;color:#1d2528;background:#fdfcf9">
<h1 style="font-size:18px">{{.Subject}}</h1>
{{range .Lines}}<p style="white-space:pre-wrap">{{.}}</p>
{{end}}{{if .Link}}<p><a href="{{.Link}}" style="color:#0f5e63">{{.Action}}</a></p>
{{end}}<p style="color:#545f63;font-size:13px">{{.Foot}}</p>
</body></html>
`))

// New writes one. What would be a header of its own is none: a subject is one line.
func New(c Content) Letter {
	c.Subject = oneLine(c.Subject)
	if r := []rune(c.Subject); len(r) > maxSubject {
		c.Subject = string(r[:maxSubject-1]) + "…"
	}
	for i, line := range c.Lines {
		c.Lines[i] = clean(line)
	}
	var text, html strings.Builder
	for _, line := range c.Lines {
		text.WriteString(line + "\n\n")
	}
	if c.Link != "" {
		text.WriteString(c.Action + ":\n" + c.Link + "\n\n")
	}
	text.WriteString("-- \n" + c.Foot + "\n")
	if err := page.Execute(&html, c); err != nil {
		panic(err) // it is ours, and writes into memory
	}
	return Letter{c.Subject, text.String(), html.String()}
}

// clean takes out of a text what no mail holds.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0x7f {
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, "\ufffd"))
}

func oneLine(text string) string {
	return strings.Join(strings.Fields(clean(text)), " ")
}

// maxAddress bounds an address (RFC 5321, 4.5.3.1.3).
const maxAddress = 254

// Address checks an address that mail can go to (RFC 5322, 3.4.1, without a name beside it).
func Address(text string) error {
	a, err := mail.ParseAddress(text)
	if err != nil || a.Address != text || len(text) > maxAddress || strings.ContainsAny(text, "\r\n\x00 \"") {
		return errors.New("it is no address: write it as ada@tidewick.example")
	}
	return nil
}
