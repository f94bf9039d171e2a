package httpapi

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
)

// What comes in is text (RFC 8259, section 8.1: UTF-8), without the NUL character, which the records cannot hold. That
// is looked at here, once for all routes: what is behind this door may believe it.

const textFix = "; write UTF-8 without the NUL character"

// onlyText refuses paths and queries that are none.
func onlyText(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch query, err := url.ParseQuery(r.URL.RawQuery); {
		case !isText(r.URL.Path):
			writeProblem(w, huma.Error400BadRequest("the path is no text"+textFix))
		case err != nil:
			writeProblem(w, huma.Error400BadRequest("the query cannot be read: "+strings.ToValidUTF8(err.Error(), "\uFFFD")))
		case !areTexts(query):
			writeProblem(w, huma.Error400BadRequest("the query holds what is no text"+textFix))
		default:
			next.ServeHTTP(w, r)
		}
	})
}

func isText(s string) bool { return utf8.ValidString(s) && !strings.ContainsRune(s, 0) }

func areTexts(values url.Values) bool {
	for name, list := range values {
		if !isText(name) {
			return false
		}
		for _, v := range list {
			if !isText(v) {
				return false
			}
		}
	}
	return true
}

// jsonFormat reads and writes JSON bodies. What is read is text, also where it is escaped.
var jsonFormat = huma.Format{
	Marshal: func(w io.Writer, v any) error { return json.NewEncoder(w).Encode(v) },
	Unmarshal: func(data []byte, v any) error {
		if err := checkJSON(data); err != nil {
			return err
		}
		return json.Unmarshal(data, v)
	},
}

var (
	errNotText = errors.New("the body is no text" + textFix)
	errDeep    = errors.New("the body nests deeper than anything that is asked for")
)

// maxBodyDepth is deeper than any body of this interface.
const maxBodyDepth = 40

// checkJSON refuses bodies that are no text, and those that are deep: what is made of them by reflection would be, too.
func checkJSON(data []byte) error {
	if !utf8.Valid(data) || bytes.IndexByte(data, 0) >= 0 {
		return errNotText
	}
	depth, quoted := 0, false
	for i := 0; i < len(data); i++ {
		switch c := data[i]; {
		case quoted && c == '\\':
			if bytes.HasPrefix(data[i:], []byte(`\u0000`)) {
				return errNotText
			}
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[' || c == '{':
			if depth++; depth > maxBodyDepth {
				return errDeep
			}
		case c == ']' || c == '}':
			depth--
		}
	}
	return nil
}
