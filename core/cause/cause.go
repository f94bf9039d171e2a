// Package cause knows what fails in this trade: from the lines a step left it tells what that means and what to do.
//
// The catalogue is a file that people can read, and teams add to it in one of the same form. A pattern is of RE2, whose
// time is linear in the text whatever the pattern is: none can be made to run for ever.
package cause

import (
	_ "embed"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"unicode"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
)

// Cause is something that fails, as it is told.
type Cause struct {
	// By what it is named.
	Name string `json:"name"`
	// What it is, in a few words.
	Title string `json:"title"`
	// What it means.
	Means string `json:"means"`
	// What to do.
	Do string `json:"do"`
	// Lines by which it is known.
	Examples []string `json:"examples,omitempty"`
	// The project has added it.
	Own bool `json:"own,omitempty"`
}

// known is a cause with its patterns.
type known struct {
	Cause
	says []*regexp.Regexp
}

// Catalogue is a list of causes. The first that fits is told.
type Catalogue []known

//go:embed catalogue.toml
var catalogue []byte

// builtIn is the product's own.
var builtIn = sync.OnceValue(func() Catalogue {
	list, found := definition.ParseCauses("catalogue.toml", catalogue)
	if len(found) > 0 {
		panic("the catalogue of causes: " + found[0].String()) // a test reads it, too
	}
	return compiled(list, false)
})

func compiled(list []definition.Cause, own bool) (out Catalogue) {
	for _, c := range list {
		k := known{Cause: Cause{c.Name, c.Title, c.Means, c.Do, c.Example, own}}
		for _, pattern := range c.Says {
			k.says = append(k.says, regexp.MustCompile(pattern)) // it was checked when it was read
		}
		out = append(out, k)
	}
	return out
}

// With is the catalogue with a project's own causes before it: theirs are told first.
func With(own []definition.Cause) Catalogue { return append(compiled(own, true), builtIn()...) }

// All lists the causes.
func (c Catalogue) All() []Cause {
	list := make([]Cause, len(c))
	for i, k := range c {
		list[i] = k.Cause
	}
	return list
}

// Named finds a cause.
func (c Catalogue) Named(name string) (Cause, bool) {
	for _, k := range c {
		if k.Name == name {
			return k.Cause, true
		}
	}
	return Cause{}, false
}

// longest is how much of a line is looked at, in bytes.
const longest = 4 << 10

// Of tells the cause of a failure from the lines that matter, and the line by which it is known; false when none fits.
// Each cause is looked for in all lines before the next one is, since what is particular comes before what is general.
func (c Catalogue) Of(lines []string) (Cause, string, bool) {
	plain := make([]string, len(lines))
	for i, l := range lines {
		plain[i] = logline.Plain(l[:min(len(l), longest)])
	}
	for _, k := range c {
		for _, l := range plain {
			for _, says := range k.says {
				if says.MatchString(l) {
					return k.Cause, l, true
				}
			}
		}
	}
	return Cause{}, "", false
}

// changing is what differs between two times of the same failure: numbers, hashes, and what is in folders for a while.
var changing = regexp.MustCompile(`0x[0-9a-fA-F]+|\b[0-9a-fA-F]{7,64}\b|/(tmp|var/tmp|build/tmp)/[\w./-]+|\d+`)

// Normal is a line without what changes from one time to the next, so that the same failure is known again.
func Normal(line string) string {
	line = logline.Plain(line[:min(len(line), longest)])
	line = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(line, "\uFFFD"))
	return strings.Join(strings.Fields(changing.ReplaceAllString(line, "#")), " ")
}

// Print is what a failure is known again by over runs: where it failed, why, and what was said, without what changes.
// Jobs that are variants of one fail of the same.
func Print(step string, c Cause, line string) string {
	return fmt.Sprintf("%s\x00%s\x00%s", step, c.Name, Normal(line))
}
