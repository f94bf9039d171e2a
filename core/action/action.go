// Package action has what a step can do besides running a script: one pure type for each of the product's own verbs.
// A type tells all that the rest of the house needs to know of its verb: its keys and what they mean (above them),
// what is wrong with its values, which files it reads. Who carries it out is the runner's.
package action

import (
	"fmt"
	"reflect"
)

// Action is one of the product's own verbs with its values, as a step has them.
type Action interface {
	// Complaints are what is wrong with the values by themselves.
	Complaints() []Complaint
	// Paths are the files of the workspace that it reads, and Writes those that it makes, or their folder, by their keys;
	// of a list each by its number, such as files.0. In them ${NAME} stands for a value of the job's variants, or a
	// parameter of a part.
	Paths() map[string]*string
	Writes() map[string]*string
	// Texts are the values, by their keys, in which ${NAME} stands for the variable that a script would find.
	Texts() map[string]string
}

// Complaint is something wrong with an action.
type Complaint struct {
	Code    string // of the finding, as the pipeline file's
	Key     string // which value, "" for the action as a whole
	Message string
	Fix     string
}

// paths are pointers to those that say something: texts by their keys, and lists.
func paths(texts map[string]*string, lists map[string][]string) map[string]*string {
	out := map[string]*string{}
	for key, text := range texts {
		if *text != "" {
			out[key] = text
		}
	}
	for key, list := range lists {
		for i := range list {
			out[fmt.Sprintf("%s.%d", key, i)] = &list[i]
		}
	}
	return out
}

// Kind is one of the verbs.
type Kind struct {
	Key   string // of the step
	About string
	Type  reflect.Type
	By    Doer
}

// Doer is who does what a verb says.
type Doer int

// The doers. What the service can do itself is done by a runner where a job has other steps, too, unless it is for the
// service alone.
const (
	Runner Doer = iota
	Either
	Service
)

// Kinds lists the verbs, in the order of the documents.
var Kinds = []Kind{
	{"note", noteAbout, reflect.TypeFor[Note](), Runner},
	{"deal", dealAbout, reflect.TypeFor[Deal](), Runner},
	{"raise", raiseAbout, reflect.TypeFor[Raise](), Runner},
	{"land", landAbout, reflect.TypeFor[Land](), Either},
	{"package", packageAbout, reflect.TypeFor[Pack](), Runner},
	{"sign", signAbout, reflect.TypeFor[Sign](), Runner},
	{"checklist", checklistAbout, reflect.TypeFor[Checklist](), Runner},
	{"release", releaseAbout, reflect.TypeFor[Release](), Service},
	{"publish", publishAbout, reflect.TypeFor[Publish](), Service},
}
