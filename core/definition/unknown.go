package definition

import (
	"fmt"
	"reflect"
	"sort"
	"strings"
	"sync"

	"github.com/agnivade/levenshtein"
)

// unknownKeys compares every key of a document with the Go type it is read into.
func unknownKeys(ix *index, t reflect.Type) []Finding {
	var found []Finding
	var reported []string
	for _, k := range ix.order {
		if under(string(k), reported) {
			continue
		}
		parts := k.parts()
		valid, ok := lookup(t, parts)
		if ok {
			continue
		}
		reported = append(reported, string(k))
		last := parts[len(parts)-1]
		fix := "Keys that may stand here: " + strings.Join(valid, ", ") + "."
		if near := nearest(last, valid); near != "" {
			fix = fmt.Sprintf("Did you mean %q?", near)
		}
		found = append(found, ix.places[k].finding("unknown-key", fmt.Sprintf("unknown key %q", last), fix))
		if len(found) > MaxFindings {
			break
		}
	}
	return found
}

func under(k string, reported []string) bool {
	for _, r := range reported {
		if strings.HasPrefix(k, r+"\x1f") {
			return true
		}
	}
	return false
}

// lookup follows a key path through a type; where it ends, it returns the keys that are valid there.
func lookup(t reflect.Type, parts []string) (valid []string, ok bool) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if len(parts) == 0 {
		return nil, true
	}
	switch t.Kind() {
	case reflect.Struct:
		known := keysOf(t)
		if field, ok := known.types[parts[0]]; ok {
			return lookup(field, parts[1:])
		}
		return known.names, false
	case reflect.Map, reflect.Slice:
		return lookup(t.Elem(), parts[1:])
	case reflect.Interface:
		return nil, true // the value is checked where it is used
	}
	// A table where a plain value belongs: the decoder reports the type with its place.
	return nil, true
}

// keys are what a table of a type may hold.
type keys struct {
	names []string // in order
	types map[string]reflect.Type
}

// keysByType remembers what reflection has told: it is asked for every key of every file.
var keysByType sync.Map

func keysOf(t reflect.Type) *keys {
	if known, ok := keysByType.Load(t); ok {
		return known.(*keys)
	}
	k := &keys{types: map[string]reflect.Type{}}
	for _, f := range fields(t) {
		if name := f.Tag.Get("toml"); name != "" {
			k.names, k.types[name] = append(k.names, name), f.Type
		}
	}
	sort.Strings(k.names)
	keysByType.Store(t, k)
	return k
}

// longestMeant is the longest name that is compared: to compare two takes the product of their lengths.
const longestMeant = 300

// nearest returns the candidate a person most likely meant, or "" when none is close.
func nearest(word string, candidates []string) string {
	best, bestDistance := "", len(word)/2+1
	for _, c := range candidates {
		if len(c) >= len(word)+bestDistance || len(word) >= len(c)+bestDistance || len(c) > longestMeant {
			continue // the lengths alone tell that it is further away
		}
		if d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(c)); d < bestDistance {
			best, bestDistance = c, d
		}
	}
	return best
}
