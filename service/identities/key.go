package identities

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/sign"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/token"
)

// custody is a key, and what is kept of it: the key itself, or where it is in which token.
type custody struct {
	sign.Signer
	plain []byte
	token string // the label of its token; "" for a key that is kept here
}

// keyOf makes a key, takes one over, or finds one in a token.
func (s *Identities) keyOf(in api.NewIdentity) (c custody, err error) {
	ways := 0
	for _, way := range []bool{in.Make != nil, in.Take != nil, in.Token != nil} {
		if way {
			ways++
		}
	}
	switch {
	case ways != 1:
		return c, fmt.Errorf("say that a key is to be made, which file it is in, or which token: one of them; this is %w",
			ground.ErrInvalid)
	case in.Make != nil:
		c.Signer, err = identity.Make(in.Make.Algorithm, in.Make.Name, in.Make.Years, time.Now())
	case in.Take != nil:
		c.Signer, err = identity.Import(*in.Take)
	default:
		c, err = s.inToken(*in.Token)
	}
	if err == nil && c.plain == nil {
		c.plain, err = identity.Marshal(c.Signer)
	}
	if err != nil {
		return c, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	return c, nil
}

// inToken finds a key in a token, and its certificate there or among those that are given.
func (s *Identities) inToken(in api.TokenKey) (c custody, err error) {
	ref := token.Ref{Token: in.Token, Key: in.Key, PIN: in.PIN}
	key, certificate, err := s.tokens.Key(ref)
	if err != nil {
		return c, err
	}
	c.Key = key
	switch {
	case in.Certificates != "":
		c.Chain, err = identity.ReadCertificates([]byte(in.Certificates))
	case certificate != nil:
		c.Chain = append(c.Chain, certificate)
	default:
		err = errors.New("the token has no certificate for this key: give one, as PEM")
	}
	if err == nil {
		err = c.Check()
	}
	if err != nil {
		return c, err
	}
	c.plain, err = json.Marshal(ref)
	c.token = in.Token
	return c, err
}

// maxOpen bounds the keys that are kept open.
const maxOpen = 64

// signer opens a key.
func (s *Identities) signer(i store.Identity) (sign.Signer, error) {
	s.mu.Lock()
	signer, there := s.open[i.RevisionID]
	s.mu.Unlock()
	if there {
		return signer, nil
	}
	plain, err := s.vault.Open(i.Ciphertext)
	if err != nil {
		return sign.Signer{}, err
	}
	defer clear(plain)
	chain, err := identity.ReadCertificates(i.Chain)
	if err != nil {
		return sign.Signer{}, err
	}
	if i.Token == "" {
		signer, err = identity.Parse(plain)
	} else {
		var ref token.Ref
		if err = json.Unmarshal(plain, &ref); err == nil {
			signer.Chain = chain
			signer.Key, _, err = s.tokens.Key(ref)
		}
	}
	if err != nil {
		return sign.Signer{}, fmt.Errorf("the key of identity %s cannot be read: %w", i.Name, err)
	}
	if err := signer.Check(); err != nil || !bytes.Equal(chain[0].Raw, signer.Leaf().Raw) {
		return sign.Signer{}, fmt.Errorf("the records of identity %s do not belong together", i.Name)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.open) >= maxOpen {
		clear(s.open)
	}
	s.open[i.RevisionID] = signer
	return signer, nil
}

// forget opens a key anew the next time: its token may have been away.
func (s *Identities) forget(i store.Identity) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.open, i.RevisionID)
}
