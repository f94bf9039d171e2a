package service

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"filippo.io/age"

	"gentlepiston.example/piston/local"
)

// vault encrypts what must not lie about in the clear, with age (age-encryption.org/v1) under one X25519 identity.
type vault struct{ identity *age.X25519Identity }

// openVault reads the identity, or makes one when there is none yet.
func openVault(path string) (*vault, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		identity, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		if err := local.WriteOwn(path, []byte(identity.String()+"\n")); err != nil {
			return nil, fmt.Errorf("writing the key of the secrets: %w", err)
		}
		return &vault{identity}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the key of the secrets: %w", err)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%s can be read by others (mode %04o): run chmod 600 on it, and set the secrets anew if others had access",
			path, info.Mode().Perm())
	}
	identity, err := age.ParseX25519Identity(strings.TrimSpace(string(text)))
	if err != nil {
		return nil, fmt.Errorf("%s holds no age identity: put the right file back; without it no secret can be read: %w", path, err)
	}
	return &vault{identity}, nil
}

func (v *vault) seal(plain []byte) ([]byte, error) { return sealTo(v.identity.Recipient(), plain) }

func sealTo(to age.Recipient, plain []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func (v *vault) open(sealed []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), v.identity)
	if err != nil {
		return nil, fmt.Errorf("opening a secret: is secrets.key the one it was set under? %w", err)
	}
	return io.ReadAll(r)
}
