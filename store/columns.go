package store

import (
	"reflect"
	"strings"
)

// columnsOf lists the columns of a table, or of a query under its alias, that a record is read from. They are named,
// and not "*": a program must go on reading a table to which a newer one has added something.
func columnsOf[T any](table string) string {
	var list []string
	for _, f := range reflect.VisibleFields(reflect.TypeFor[T]()) {
		if name := f.Tag.Get("db"); name != "" && name != "-" {
			list = append(list, table+"."+name)
		}
	}
	return strings.Join(list, ", ")
}
