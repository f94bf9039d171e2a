// Package action has what a step can do besides running a script: one pure type for each of the product's own verbs.
// A type tells all that the rest of the house needs to know of its verb: its keys and what they mean (above them),
// what is wrong with its values, which files it reads. Who carries it out is the runner's.
package action

import "reflect"

// Action is one of the product's own verbs with its values, as a step has them.
type Action interface {
	// Complaints are what is wrong with the values by themselves.
	Complaints() []Complaint
	// Paths are the files of the workspace that it reads, by their keys. In them ${NAME} stands for a value of the job's
	// variants, or a parameter of a part.
	Paths() map[string]*string
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

// Kind is one of the verbs.
type Kind struct {
	Key   string // of the step
	About string
	Type  reflect.Type
}

// Kinds lists the verbs, in the order of the documents.
var Kinds = []Kind{
	{"note", noteAbout, reflect.TypeFor[Note]()},
	{"raise", raiseAbout, reflect.TypeFor[Raise]()},
	{"land", landAbout, reflect.TypeFor[Land]()},
	{"package", packageAbout, reflect.TypeFor[Pack]()},
	{"sign", signAbout, reflect.TypeFor[Sign]()},
	{"checklist", checklistAbout, reflect.TypeFor[Checklist]()},
}
