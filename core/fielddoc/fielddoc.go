// Package fielddoc reads what the fields of structs mean from the comments above them, so that the reference, the
// schemas and the interface say what the source says. A package that has such fields embeds the files they stand in.
package fielddoc

import (
	"embed"
	"go/ast"
	"go/doc/comment"
	"go/parser"
	"go/token"
	"io/fs"
	"reflect"
	"strings"
)

// Text is what stands above a field: its words in one line, and the indented example behind them, if there is one.
type Text struct{ Words, Sample string }

// Texts holds the text of each field by its type's name with the package ("plan.Push") and its own.
type Texts map[[2]string]Text

// Read takes the texts from Go sources. It panics when one does not parse, which the compiler would not have let pass.
func Read(sources ...embed.FS) Texts {
	texts := Texts{}
	for _, source := range sources {
		names, err := fs.Glob(source, "*.go")
		if err != nil {
			panic(err)
		}
		for _, name := range names {
			text, err := source.ReadFile(name)
			if err != nil {
				panic(err)
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, text, parser.ParseComments|parser.SkipObjectResolution)
			if err != nil {
				panic(err)
			}
			texts.take(file)
		}
	}
	return texts
}

func (t Texts) take(file *ast.File) {
	ast.Inspect(file, func(n ast.Node) bool {
		named, is := n.(*ast.TypeSpec)
		if !is {
			return true
		}
		structure, is := named.Type.(*ast.StructType)
		if !is {
			return false
		}
		for _, f := range structure.Fields.List {
			for _, name := range f.Names {
				if f.Doc != nil {
					t[[2]string{file.Name.Name + "." + named.Name.Name, name.Name}] = textOf(f.Doc.Text())
				}
			}
		}
		return false
	})
}

// textOf parts a comment into its words and its example, as they are told apart in documents of Go.
func textOf(written string) (text Text) {
	var parser comment.Parser
	var words []string
	for _, block := range parser.Parse(written).Content {
		switch block := block.(type) {
		case *comment.Code:
			text.Sample = strings.TrimSuffix(block.Text, "\n")
		case *comment.Paragraph:
			for _, part := range block.Text {
				if plain, is := part.(comment.Plain); is {
					words = append(words, strings.Fields(string(plain))...)
				}
			}
		}
	}
	text.Words = strings.Join(words, " ")
	return text
}

// Of is the text of a field of a type, or of what the type points to.
func (t Texts) Of(of reflect.Type, field string) Text {
	for of.Kind() == reflect.Pointer {
		of = of.Elem()
	}
	return t[[2]string{of.String(), field}]
}
