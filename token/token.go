// Package token signs with keys that are in a token, such as a hardware security module, by PKCS #11 (OASIS, 2.40).
// They never leave it: the service has a name and a PIN, and asks for each signature. It needs a program that was built
// with cgo; another says so.
package token

import (
	"crypto"
	"crypto/subtle"
	"crypto/x509"
	"errors"
	"fmt"
	"sync"
)

// Ref is where a key is.
type Ref struct {
	Token string `json:"token"` // the label of the token
	Key   string `json:"key"`   // the label of the key in it
	PIN   string `json:"pin"`
}

// ErrNone says that this service has no tokens.
var ErrNone = errors.New("this service knows no tokens: start it with --token-module, the PKCS #11 library of yours")

// ErrNoKey says that a token has no such key.
var ErrNoKey = errors.New("the token has no key of that label, with both its halves")

// Module is the library of a maker's tokens. The zero value, and nil, know none.
type Module struct {
	path string

	mu   sync.Mutex
	open map[string]opened // by the labels of tokens
}

// opened is a token, and the PIN it was opened by. A library asks for the PIN once, for all of a program: that another
// has it must not open the token to who has not.
type opened struct {
	session
	pin string
}

// session is with one token.
type session interface {
	// find gives a key, and its certificate where there is one. ErrNoKey when the token has none of that label.
	find(label string) (crypto.Signer, *x509.Certificate, error)
	close() error
}

// New uses the library in a file; it is loaded when a key is asked for. With "" there are no tokens.
func New(path string) *Module { return &Module{path: path, open: map[string]opened{}} }

// Key gives the key, and its certificate when the token has that, too; nil when it has not.
func (m *Module) Key(r Ref) (crypto.Signer, *x509.Certificate, error) {
	if m == nil || m.path == "" {
		return nil, nil, ErrNone
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	s, there := m.open[r.Token]
	if there && subtle.ConstantTimeCompare([]byte(s.pin), []byte(r.PIN)) != 1 {
		return nil, nil, fmt.Errorf("the token %.60q was opened by another PIN; when it was changed, start the service anew",
			r.Token)
	}
	if there {
		key, c, err := s.find(r.Key)
		if err == nil || errors.Is(err, ErrNoKey) {
			return key, c, err
		}
		delete(m.open, r.Token) // the token was away: it is asked anew
		_ = s.close()
	}
	fresh, err := connect(m.path, r.Token, r.PIN)
	if err != nil {
		return nil, nil, err
	}
	m.open[r.Token] = opened{fresh, r.PIN}
	return fresh.find(r.Key)
}

// Close ends what was begun with all tokens.
func (m *Module) Close() (err error) {
	if m == nil {
		return nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for label, s := range m.open {
		err = errors.Join(err, s.close())
		delete(m.open, label)
	}
	return err
}
