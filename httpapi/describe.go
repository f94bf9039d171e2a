package httpapi

import (
	"sync"

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
