package fielddoc

import (
	"embed"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
)

// harbour is what the tests read the comments of.
type harbour struct {
	// Where it lies, as sailors write it: [DEGREES], or
	// a name.
	//
	//	place = "50 N"
	//	name = "Tidewick"
	Place string
	// How deep, how wide.
	Depth, Width int
	Plain        bool
	inner        struct {
		// Nobody asks for the fields of a type without a name.
		Hidden int
	}
}

//go:embed fielddoc_test.go
var source embed.FS

func TestAFieldMeansWhatStandsAboveIt(t *testing.T) {
	texts := Read(source)
	of := reflect.TypeFor[*harbour]()
	assert.Equal(t, Text{"Where it lies, as sailors write it: [DEGREES], or a name.",
		"place = \"50 N\"\nname = \"Tidewick\""}, texts.Of(of, "Place"))
	assert.Equal(t, Text{Words: "How deep, how wide."}, texts.Of(of, "Depth"))
	assert.Equal(t, Text{Words: "How deep, how wide."}, texts.Of(of.Elem(), "Width"))
	assert.Zero(t, texts.Of(of, "Plain"))
	assert.Zero(t, texts.Of(reflect.TypeOf(harbour{}.inner), "Hidden"))
	assert.Len(t, texts, 3)
}
