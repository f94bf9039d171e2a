// Package bill lists what a package is made of, for those who look for known faults in it: a bill of materials of
// CycloneDX (1.5). What is native comes from inside the package, the packages of others from the lock files of the
// commit it was built from.
package bill

import (
	"bytes"
	"cmp"
	"encoding/json"
	"path"
	"slices"
	"strings"
	"time"

	cdx "github.com/CycloneDX/cyclonedx-go"

	"gentlepiston.example/piston/core/appfile"
)

// Package is what the bill is about.
type Package struct {
	File   string
	SHA256 string
	At     time.Time
	appfile.Facts
	Used []Used
}

// New writes the bill: the same package gives the same bytes.
func New(p Package) (json.RawMessage, error) {
	b := cdx.NewBOM()
	b.SpecVersion = cdx.SpecVersion1_5
	b.JSONSchema = "http://cyclonedx.org/schema/bom-1.5.schema.json"
	b.Metadata = &cdx.Metadata{Timestamp: p.At.UTC().Format(time.RFC3339), Component: &cdx.Component{
		BOMRef: "package", Type: cdx.ComponentTypeApplication, Name: p.ID, Version: p.Version,
		Hashes: &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA256, Value: p.SHA256}},
		Properties: &[]cdx.Property{{Name: "piston:file", Value: path.Base(p.File)},
			{Name: "piston:kind", Value: string(p.Kind)}, {Name: "piston:build", Value: p.Build}}}}
	var list []cdx.Component
	for _, program := range p.Programs {
		list = append(list, native(program))
	}
	for _, u := range p.Used {
		list = append(list, cdx.Component{BOMRef: u.URL, Type: cdx.ComponentTypeLibrary, Name: u.Name, Version: u.Version,
			PackageURL: u.URL, Properties: &[]cdx.Property{{Name: "piston:lock", Value: u.File}}})
	}
	slices.SortStableFunc(list, func(a, b cdx.Component) int { return cmp.Compare(a.BOMRef, b.BOMRef) })
	list = slices.CompactFunc(list, func(a, b cdx.Component) bool { return a.BOMRef == b.BOMRef })
	b.Components = &list
	var refs []string
	for _, c := range list {
		refs = append(refs, c.BOMRef)
	}
	b.Dependencies = &[]cdx.Dependency{{Ref: "package", Dependencies: &refs}}
	var out bytes.Buffer
	e := cdx.NewBOMEncoder(&out, cdx.BOMFileFormatJSON)
	err := e.EncodeVersion(b, cdx.SpecVersion1_5)
	return out.Bytes(), err
}

// native is a program or a library in the package.
func native(p appfile.Program) cdx.Component {
	kind := cdx.ComponentTypeLibrary
	switch p.Kind {
	case "framework":
		kind = cdx.ComponentTypeFramework
	case "app", "extension":
		kind = cdx.ComponentTypeApplication
	}
	c := cdx.Component{BOMRef: "file:" + p.Path + "#" + p.Processor, Type: kind,
		Name: strings.TrimSuffix(path.Base(p.Path), ".so"), Properties: &[]cdx.Property{
			{Name: "piston:path", Value: p.Path}, {Name: "piston:processor", Value: p.Processor}}}
	if p.BuildID != "" {
		*c.Properties = append(*c.Properties, cdx.Property{Name: "piston:build-id", Value: p.BuildID})
	}
	return c
}

// Count tells how many components a bill lists, and how many of them come from others.
func Count(text []byte) (all, used int, err error) {
	var b cdx.BOM
	if err := cdx.NewBOMDecoder(bytes.NewReader(text), cdx.BOMFileFormatJSON).Decode(&b); err != nil {
		return 0, 0, err
	}
	if b.Components == nil {
		return 0, 0, nil
	}
	for _, c := range *b.Components {
		if all++; c.PackageURL != "" {
			used++
		}
	}
	return all, used, nil
}
