//go:build cgo

package token

import (
	"crypto"
	"crypto/x509"
	"fmt"
	"time"

	"github.com/ThalesGroup/crypto11"
)

// waits is how long a signature waits for others of the same token.
const waits = 20 * time.Second

type connection struct{ *crypto11.Context }

func connect(path, label, pin string) (session, error) {
	c, err := crypto11.Configure(&crypto11.Config{Path: path, TokenLabel: label, Pin: pin, PoolWaitTimeout: waits,
		LoginNotSupported: false})
	if err != nil {
		return nil, fmt.Errorf("the token %.60q cannot be used: %w", label, err)
	}
	return connection{c}, nil
}

func (c connection) find(label string) (crypto.Signer, *x509.Certificate, error) {
	keys, err := c.FindKeyPairs(nil, []byte(label))
	if err != nil {
		return nil, nil, fmt.Errorf("the token cannot be asked for the key %.60q: %w", label, err)
	}
	if len(keys) == 0 {
		return nil, nil, fmt.Errorf("%w: %.60q", ErrNoKey, label)
	}
	certificate, err := c.FindCertificate(nil, []byte(label), nil)
	return keys[0], certificate, err
}

func (c connection) close() error { return c.Close() }
