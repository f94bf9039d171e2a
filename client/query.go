package client

import (
	"fmt"
	"net/url"
	"reflect"
	"strconv"
)

// query is by what a list is narrowed: texts, numbers, and what is so or not. What says nothing is left out.
type query map[string]any

// listed is the query of a list of so many at most.
func (q query) listed(limit int) string {
	v := url.Values{"limit": {strconv.Itoa(max(limit, 1))}}
	for name, value := range q {
		if r := reflect.ValueOf(value); !r.IsZero() {
			v.Set(name, fmt.Sprint(r.Interface()))
		}
	}
	return "?" + v.Encode()
}
