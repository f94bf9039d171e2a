package access

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Answerer says who may answer a question: a role, and with it whoever may do more; or group:NAME; or person:NAME.
type Answerer string

// The kinds of answerers that are no role.
const (
	groupOf  = "group:"
	personOf = "person:"
)

var answererName = regexp.MustCompile(`^[^\s\pC:]{1,100}$`)

// Check refuses what names nobody.
func (a Answerer) Check() error {
	for _, kind := range []string{groupOf, personOf} {
		if name, is := strings.CutPrefix(string(a), kind); is {
			if answererName.MatchString(name) {
				return nil
			}
			return fmt.Errorf("%q names nobody", string(a))
		}
	}
	if slices.Contains(roles[1:], Role(a)) {
		return nil
	}
	return fmt.Errorf("%q is no role", string(a))
}

// String is how a person reads it.
func (a Answerer) String() string {
	if name, is := strings.CutPrefix(string(a), groupOf); is {
		return "group " + name
	}
	if name, is := strings.CutPrefix(string(a), personOf); is {
		return name
	}
	return "any " + string(a)
}

// Person is somebody who may want to answer, as they stand now.
type Person struct {
	Name   string
	Role   Role // in the project
	Groups []string
}

// MayAnswer tells whether somebody is among those who may answer. Whoever cannot see the project may not, whatever else
// they are.
func MayAnswer(who []Answerer, p Person) bool {
	if !p.Role.Covers(Reader) {
		return false
	}
	return slices.ContainsFunc(who, func(a Answerer) bool {
		if name, is := strings.CutPrefix(string(a), groupOf); is {
			return slices.Contains(p.Groups, name)
		}
		if name, is := strings.CutPrefix(string(a), personOf); is {
			return p.Name == name
		}
		return p.Role.Covers(Role(a))
	})
}
