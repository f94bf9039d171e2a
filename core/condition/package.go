package condition

import (
	"sync"

	"cel.dev/cel-go/cel"
)

// Package is what a rule of a checklist may ask about.
type Package struct {
	Kind, Platform, ID, Label, Version, Build, Lowest, Target string
	Debuggable, Cleartext                                     bool
	Permissions, Processors, Languages, Schemes, Files        []string
	Size, LastSize                                            int64
	Domains, Inside                                           []string
	Methods, Download                                         int64
	Entitlements                                              map[string]any
}

// PackageWords lists the names a rule may use.
var PackageWords = []Word{
	{"kind", "text", "apk, app-bundle or ipa"},
	{"platform", "text", "android or ios"},
	{"id", "text", "the application's id"},
	{"label", "text", "what people see"},
	{"version", "text", "the version's name"},
	{"build", "text", "the build number"},
	{"lowest", "text", "the lowest system it is for"},
	{"target", "text", "the system it was made for"},
	{"debuggable", "true or false", "whether it can be debugged"},
	{"cleartext", "true or false", "whether it may speak unencrypted"},
	{"permissions", "list of texts", "what it may do"},
	{"processors", "list of texts", "those it has code for"},
	{"languages", "list of texts", "those it speaks"},
	{"schemes", "list of texts", "by which it is signed"},
	{"domains", "list of texts", "those that its network settings name"},
	{"inside", "list of texts", "kinds of what is not for people: secret, test-code, source-map, address"},
	{"methods", "number", "methods that its code names, on Android"},
	{"download", "number", "about the most bytes that a device loads"},
	{"files", "list of texts", "the largest files in it: `!files.within(\"**/*.map\")`"},
	{"size", "number", "bytes"},
	{"last_size", "number", "bytes of the one before, or 0"},
	{"entitlements", "table", "what it asks iOS for"},
}

// packageTypes are the types of words, by how they are told.
var packageTypes = map[string]*cel.Type{"text": cel.StringType, "true or false": cel.BoolType, "number": cel.IntType,
	"list of texts": cel.ListType(cel.StringType), "table": cel.MapType(cel.StringType, cel.DynType)}

var packageEnvironment = sync.OnceValues(func() (*cel.Env, error) {
	options := shared()
	for _, w := range PackageWords {
		options = append(options, cel.Variable(w.Name, packageTypes[w.Type]))
	}
	return cel.NewEnv(options...)
})

// CompileRule checks an expression about a package. The error is an *Error.
func CompileRule(text string) (*Condition, error) { return compile(packageEnvironment, text) }

// Meets evaluates an expression that CompileRule has checked.
func (c *Condition) Meets(p Package) (bool, error) {
	return c.holds(map[string]any{"kind": p.Kind, "platform": p.Platform, "id": p.ID, "label": p.Label,
		"version": p.Version, "build": p.Build, "lowest": p.Lowest, "target": p.Target, "debuggable": p.Debuggable,
		"cleartext": p.Cleartext, "permissions": orEmpty(p.Permissions), "processors": orEmpty(p.Processors),
		"languages": orEmpty(p.Languages), "schemes": orEmpty(p.Schemes), "files": orEmpty(p.Files), "size": p.Size,
		"domains": orEmpty(p.Domains), "inside": orEmpty(p.Inside), "methods": p.Methods, "download": p.Download,
		"last_size": p.LastSize, "entitlements": orNone(p.Entitlements)})
}
