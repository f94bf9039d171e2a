//go:build !cgo

package token

import "errors"

func connect(_, _, _ string) (session, error) {
	return nil, errors.New("this program was built without cgo, and cannot load the library of a token: build it with " +
		"CGO_ENABLED=1 and a C compiler")
}
