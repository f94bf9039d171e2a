// Package schematext puts into the schemas of an OpenAPI document what stands in the source above the fields they are
// made of.
package schematext

import (
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/core/fielddoc"
)

// Describe puts texts into schemas. A field without one stays as it is.
func Describe(schemas huma.Registry, texts fielddoc.Texts) {
	for name, schema := range schemas.Map() {
		of := schemas.TypeFromRef("#/components/schemas/" + name)
		if of == nil || of.Kind() != reflect.Struct {
			continue
		}
		for _, f := range reflect.VisibleFields(of) {
			key, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			owner := of
			if len(f.Index) > 1 {
				owner = of.FieldByIndex(f.Index[:len(f.Index)-1]).Type
			}
			words := texts.Of(owner, f.Name).Words
			if property := schema.Properties[key]; property != nil && words != "" {
				property.Description = words
			}
		}
	}
}
