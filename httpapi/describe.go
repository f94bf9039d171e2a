package httpapi

import (
	"reflect"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fielddoc"
	"gentlepiston.example/piston/core/keep"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/core/timing"
)

var texts = sync.OnceValue(func() fielddoc.Texts {
	return fielddoc.Read(api.Source, access.Source, action.Source, definition.Source, keep.Source, logline.Source,
		plan.Source, testreport.Source, timing.Source)
})

// describe puts into the schemas what stands above the fields they are made of.
func describe(schemas huma.Registry) {
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
			words := texts().Of(owner, f.Name).Words
			if property := schema.Properties[key]; property != nil && words != "" {
				property.Description = words
			}
		}
	}
}
