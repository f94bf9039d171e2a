package try

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"filippo.io/age"

	"gentlepiston.example/piston/disk"
)

// Purse is a file of secrets for trials, encrypted by age (https://age-encryption.org/v1) to an identity of this
// machine. In the clear it is a JSON object of names; each value is a text, or {"kind": "file", "value": Base64}.
type Purse struct {
	File     string
	Identity string // file of the age identity; made when there is none
	Secrets  map[string]Secret
}

// OpenPurse reads a purse; one that is not there is empty.
func OpenPurse(file, identity string) (*Purse, error) {
	p := &Purse{File: file, Identity: identity, Secrets: map[string]Secret{}}
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return p, nil
	}
	if err != nil {
		return nil, err
	}
	keys, err := p.identities()
	if err != nil {
		return nil, err
	}
	plain, err := age.Decrypt(bytes.NewReader(text), keys...)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened with the identity in %s: %w", file, identity, err)
	}
	clear, err := io.ReadAll(plain)
	if err != nil {
		return nil, err
	}
	var raw map[string]json.RawMessage
	if err := json.Unmarshal(clear, &raw); err != nil {
		return nil, fmt.Errorf("%s does not hold a JSON object of secrets: %w", file, err)
	}
	for name, value := range raw {
		var text string
		var s Secret
		if json.Unmarshal(value, &text) == nil {
			s = Secret{Kind: "text", Value: []byte(text)}
		} else if err := json.Unmarshal(value, &s); err != nil {
			return nil, fmt.Errorf("%s: secret %s: write a text, or {\"kind\": \"file\", \"value\": …}", file, name)
		}
		p.Secrets[name] = s
	}
	return p, nil
}

func (p *Purse) identities() ([]age.Identity, error) {
	f, err := os.Open(p.Identity)
	if err != nil {
		return nil, fmt.Errorf("the identity that opens %s: %w", p.File, err)
	}
	defer f.Close()
	return age.ParseIdentities(f)
}

// Save writes the purse, encrypted, for its owner only.
func (p *Purse) Save() error {
	to, err := p.recipient()
	if err != nil {
		return err
	}
	clear, err := json.Marshal(p.Secrets)
	if err != nil {
		return err
	}
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, to)
	if err != nil {
		return err
	}
	if _, err := w.Write(clear); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return disk.WriteOwn(p.File, sealed.Bytes())
}

// recipient is that of the identity, which is made when there is none yet.
func (p *Purse) recipient() (age.Recipient, error) {
	text, err := os.ReadFile(p.Identity)
	if errors.Is(err, os.ErrNotExist) {
		made, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		return made.Recipient(),
			disk.WriteOwn(p.Identity, []byte("# opens the secrets that piston try uses on this machine\n"+made.String()+"\n"))
	}
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(text)) {
		if id, err := age.ParseX25519Identity(strings.TrimSpace(line)); err == nil {
			return id.Recipient(), nil
		}
	}
	return nil, fmt.Errorf("%s holds no age identity", p.Identity)
}
