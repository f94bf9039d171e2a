package profile

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"howett.net/plist"
)

// MaxEntitlements bounds the bytes of a file of entitlements.
const MaxEntitlements = 1 << 20

// ReadEntitlements reads the file in which an app's developer says what it asks the system for: a property list, with
// variables such as $(AppIdentifierPrefix).
func ReadEntitlements(text []byte) (map[string]any, error) {
	var read any
	if _, err := plist.Unmarshal(text, &read); err != nil {
		return nil, fmt.Errorf("the entitlements cannot be read: %w", err)
	}
	asked, is := read.(map[string]any)
	if !is || len(bytes.TrimSpace(text)) == 0 {
		return nil, errors.New("the entitlements are no table")
	}
	return asked, nil
}

// given are the entitlements that each app has by its profile, and that no developer writes down.
var given = []string{"application-identifier", "com.apple.developer.team-identifier", "get-task-allow",
	"beta-reports-active"}

// Asks is what an app asks for: what its developer has written, with the variables filled in, and what each app has.
// The error tells a variable that stands for nothing.
func (d *Details) Asks(app string, written map[string]any) (map[string]any, error) {
	out := map[string]any{}
	grants := d.Grants(app)
	for _, key := range given {
		if value, there := grants[key]; there {
			out[key] = value
		}
	}
	values := map[string]string{"CFBundleIdentifier": app, "PRODUCT_BUNDLE_IDENTIFIER": app,
		"TeamIdentifierPrefix": d.Team + ".", "AppIdentifierPrefix": d.Team + "."}
	if own, is := grants["application-identifier"].(string); is && strings.HasSuffix(own, "."+app) {
		values["AppIdentifierPrefix"] = strings.TrimSuffix(own, app)
	}
	for key, value := range written {
		filled, err := fill(value, values)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", key, err)
		}
		out[key] = filled
	}
	return out, nil
}

var variableForm = regexp.MustCompile(`\$[({]([^)}]*)[)}]`)

// fill puts values in the place of variables, wherever they stand.
func fill(v any, values map[string]string) (any, error) {
	var err error
	switch v := v.(type) {
	case string:
		return variableForm.ReplaceAllStringFunc(v, func(m string) string {
			name, _, _ := strings.Cut(m[2:len(m)-1], ":") // such as :rfc1034identifier, which ids are already
			value, there := values[name]
			if !there {
				err = fmt.Errorf("%.60s stands for nothing here", m)
			}
			return value
		}), err
	case []any:
		out := make([]any, len(v))
		for i := range v {
			if out[i], err = fill(v[i], values); err != nil {
				return nil, err
			}
		}
		return out, nil
	case map[string]any:
		out := map[string]any{}
		for key := range v {
			if out[key], err = fill(v[key], values); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	return v, nil
}
