package appbundle

import (
	"errors"

	"google.golang.org/protobuf/encoding/protowire"

	"gentlepiston.example/piston/core/appfile/android"
)

// The fields of aapt2's Resources.proto that are merged.
const (
	nodeElement  = 1 // XmlNode
	elementName  = 3 // XmlElement
	elementChild = 5
	tablePackage = 2 // ResourceTable
	packageID    = 1 // Package
	packageName  = 2
)

// joined are the elements of a feature's manifest that the one APK has, too: what the feature is made of and asks for.
var joined = map[string]bool{"uses-permission": true, "uses-feature": true, "permission": true, "queries": true,
	"activity": true, "activity-alias": true, "service": true, "receiver": true, "provider": true, "meta-data": true,
	"uses-library": true, "uses-native-library": true}

// mergeManifests puts into a manifest what others have besides. What both have by one name is as the first has it.
func mergeManifests(base []byte, others [][]byte) ([]byte, error) {
	for _, other := range others {
		merged, err := mergeNodes(base, other)
		if err != nil {
			return nil, err
		}
		base = merged
	}
	return base, nil
}

// mergeNodes merges two elements of one kind: manifests, and the applications in them.
func mergeNodes(base, other []byte) ([]byte, error) {
	node, err := message(base)
	if err != nil {
		return nil, err
	}
	element, err := message(first(node, nodeElement))
	if err != nil {
		return nil, err
	}
	children, err := childrenOf(other)
	if err != nil {
		return nil, err
	}
	for _, child := range children {
		name := nameOf(child)
		at, there := find(element, child)
		switch {
		case name == "application" && there:
			merged, err := mergeNodes(element[at].content, child)
			if err != nil {
				return nil, err
			}
			element[at].content, element[at].whole = merged, field(elementChild, merged)
		case joined[name] && (!there || calledOf(child) == ""):
			element = append(element, part{elementChild, field(elementChild, child), child})
		}
	}
	for i := range node {
		if node[i].number == nodeElement {
			node[i].whole = field(nodeElement, join(element))
		}
	}
	return join(node), nil
}

// childrenOf are the elements in an element.
func childrenOf(node []byte) (list [][]byte, err error) {
	parts, err := message(node)
	if err != nil {
		return nil, err
	}
	element, err := message(first(parts, nodeElement))
	for _, p := range element {
		if p.number == elementChild && nameOf(p.content) != "" {
			list = append(list, p.content)
		}
	}
	return list, err
}

// nameOf is what an element is called; "" for text.
func nameOf(node []byte) string {
	parts, err := message(node)
	if err != nil {
		return ""
	}
	element, err := message(first(parts, nodeElement))
	if err != nil {
		return ""
	}
	return string(first(element, elementName))
}

// find is where a child of the same name, and the same android:name, stands.
func find(element []part, child []byte) (int, bool) {
	name, called := nameOf(child), calledOf(child)
	for i, p := range element {
		if p.number == elementChild && nameOf(p.content) == name && calledOf(p.content) == called {
			return i, true
		}
	}
	return 0, false
}

// calledOf is an element's android:name.
func calledOf(node []byte) string {
	e, err := android.ReadProto(node)
	if err != nil {
		return ""
	}
	return e.Android("name")
}

// mergeTables puts the packages of resource tables into one, each of which has an id of its own. A package that is
// called as another is gets the module's name behind its own: devices go by ids, aapt2 by names, too.
func mergeTables(modules []string, tables [][]byte) (out []byte, err error) {
	owner, names := map[uint64]string{}, map[string]bool{}
	for i, table := range tables {
		list, err := message(table)
		if err != nil {
			return nil, wrong(modules[i]+"/resources.pb", "it cannot be read: %v", err)
		}
		for _, p := range list {
			switch {
			case p.number == tablePackage:
				id, err := idOf(p.content)
				if err != nil {
					return nil, wrong(modules[i]+"/resources.pb", "it cannot be read: %v", err)
				}
				if other := owner[id]; other != "" {
					return nil, wrong(modules[i]+"/resources.pb", "its resources have the package id %#x, as those of %s "+
						"have; link each feature with one of its own: aapt2 link --package-id 0x80", id, other)
				}
				owner[id] = modules[i]
				renamed, err := rename(p.content, names, modules[i])
				if err != nil {
					return nil, err
				}
				out = append(out, field(tablePackage, renamed)...)
				continue
			case i > 0:
				continue // where the sources of the others lay
			}
			out = append(out, p.whole...)
		}
	}
	return out, nil
}

// rename gives a package a name that none has.
func rename(pack []byte, taken map[string]bool, module string) ([]byte, error) {
	parts, err := message(pack)
	if err != nil {
		return nil, err
	}
	name := string(first(parts, packageName))
	for taken[name] {
		name += "." + module
	}
	taken[name] = true
	for i := range parts {
		if parts[i].number == packageName {
			parts[i].whole = field(packageName, []byte(name))
		}
	}
	return join(parts), nil
}

func idOf(pack []byte) (uint64, error) {
	parts, err := message(pack)
	if err != nil {
		return 0, err
	}
	id := first(parts, packageID)
	number, kind, tag := protowire.ConsumeTag(id)
	if tag < 0 || number != 1 || kind != protowire.VarintType {
		return 0, errors.New("a package has no id")
	}
	value, size := protowire.ConsumeVarint(id[tag:])
	return value, protowire.ParseError(min(size, 0))
}
