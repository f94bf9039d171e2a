// Package profile reads what a provisioning profile of iOS says: for which app it is, and until when. A profile is a
// property list in a signed envelope (CMS, RFC 5652). Who signed it is not looked at here.
package profile

import (
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"io"
	"strings"
	"time"
)

// Profile is what one says.
type Profile struct {
	App  string    `json:"app,omitempty"` // the bundle identifier, without the team's prefix; * at its end is any
	Ends time.Time `json:"ends"`          // zero when it does not say
}

// maxSize bounds what is read.
const maxSize = 1 << 20

// Read reads a profile, also one in base64 (RFC 4648), as secrets are kept in places that hold only text. ok is false
// for anything else.
func Read(data []byte) (p Profile, ok bool) {
	if len(data) > maxSize {
		return p, false
	}
	text := list(data)
	if text == nil {
		plain, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(data)), ""))
		if err != nil {
			return p, false
		}
		text = list(plain)
	}
	values := read(text)
	id := values["application-identifier"]
	if id == "" {
		id = values["com.apple.application-identifier"]
	}
	team, app, whole := strings.Cut(id, ".")
	if !whole || team == "" || app == "" {
		return p, false
	}
	p.App = app
	p.Ends, _ = time.Parse(time.RFC3339, values["ExpirationDate"])
	return p, true
}

// list cuts the property list out of its envelope.
func list(data []byte) []byte {
	start := bytes.Index(data, []byte("<?xml"))
	end := bytes.LastIndex(data, []byte("</plist>"))
	if start < 0 || end < start {
		return nil
	}
	return data[start : end+len("</plist>")]
}

// read gives the texts and dates of a property list by their keys, whichever dictionary they are in.
func read(text []byte) map[string]string {
	values := map[string]string{}
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	element, key := "", ""
	for {
		token, err := d.RawToken()
		if err != nil {
			return values
		}
		switch t := token.(type) {
		case xml.StartElement:
			element = t.Name.Local
		case xml.EndElement:
			element = ""
		case xml.CharData:
			switch content := strings.TrimSpace(string(t)); {
			case content == "":
			case element == "key":
				key = content
			case element == "string" || element == "date":
				values[key] = content
			}
		}
	}
}

// For tells whether it is for an app.
func (p Profile) For(app string) bool {
	if start, any := strings.CutSuffix(p.App, "*"); any {
		return strings.HasPrefix(app, start)
	}
	return p.App == app
}
