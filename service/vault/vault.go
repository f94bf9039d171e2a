// Package vault keeps what must not lie about in the clear: it encrypts to a master identity that is not in the
// database, and turns from one to another while serving.
package vault

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Master says where the master identities come from: age X25519 identities, one a line, of which the first is the
// one that new records are encrypted to. The others open what was encrypted before.
type Master struct {
	File string // made when there is none yet, unless records are there that it should open
	Text string // from the environment; instead of the file
	What string // how to speak of it, such as "the file /…/secrets.key"
	Own  bool   // the file is the service's own: it may write a new identity into it
}

// FindMaster tells where the master identities are: in the environment variable PISTON_MASTER, in a credential of
// systemd (systemd.exec(5), LoadCredential=) called piston-master, or in a file.
func FindMaster(getenv func(string) string, file string) Master {
	if text := getenv("PISTON_MASTER"); text != "" {
		return Master{Text: text, What: "the environment variable PISTON_MASTER"}
	}
	if dir := getenv("CREDENTIALS_DIRECTORY"); dir != "" {
		if path := filepath.Join(dir, "piston-master"); fileIsThere(path) {
			return Master{File: path, What: "the credential " + path}
		}
	}
	return Master{File: file, What: "the file " + file, Own: true}
}

func fileIsThere(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// Read gives the identities; none when there is no file.
func (m Master) read() ([]*age.X25519Identity, error) {
	text := m.Text
	if text == "" {
		info, err := os.Stat(m.File)
		if errors.Is(err, os.ErrNotExist) {
			return nil, nil
		}
		if err != nil {
			return nil, fmt.Errorf("reading the master key: %w", err)
		}
		if info.Mode().Perm()&0o077 != 0 && m.Own {
			return nil, fmt.Errorf("%s can be read by others (mode %04o): run chmod 600 on it, and set the secrets anew if "+
				"others had access",
				m.File, info.Mode().Perm())
		}
		all, err := os.ReadFile(m.File)
		if err != nil {
			return nil, fmt.Errorf("reading the master key: %w", err)
		}
		text = string(all)
	}
	var list []*age.X25519Identity
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		identity, err := age.ParseX25519Identity(line)
		if err != nil {
			return nil, fmt.Errorf("%s holds something that is no age identity: put the right one back; without it no secret "+
				"can be read", m.What)
		}
		list = append(list, identity)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s holds no age identity: put the right one back; without it no secret can be read", m.What)
	}
	return list, nil
}

func (m Master) write(list []*age.X25519Identity) error {
	var b strings.Builder
	b.WriteString("# opens the secrets of this service; the first is the one in use. Back it up, apart from the " +
		"database.\n")
	for _, identity := range list {
		b.WriteString(identity.String() + "\n")
	}
	if err := disk.WriteOwn(m.File, []byte(b.String())); err != nil {
		return fmt.Errorf("writing the master key: %w", err)
	}
	return nil
}

// Vault encrypts what must not lie about in the clear, with age (age-encryption.org/v1) to the master identity.
type Vault struct {
	*ground.Ground
	master Master
	mu     sync.RWMutex
	keys   []*age.X25519Identity // the first is in use
	former []*age.X25519Identity // open what was read just before it was encrypted anew

	rotating sync.Mutex
}

// ErrMaster says that the master key is not the one the records were encrypted under.
var ErrMaster = errors.New("the master key is not the right one")

// Open reads the master identities and makes sure that they open what is in the database; before that, nothing
// is changed. Where there is nothing to open and no identity, one is made.
func Open(ctx context.Context, m Master, g *ground.Ground) (*Vault, error) {
	keys, err := m.read()
	if err != nil {
		return nil, err
	}
	masters, err := g.Store.Masters(ctx)
	if err != nil {
		return nil, err
	}
	v := &Vault{Ground: g, master: m, keys: keys}
	for _, known := range masters {
		if _, err := v.openWith(known.Proof); err != nil {
			return nil, fmt.Errorf("%w: the secrets in the database are encrypted to %s, and %s %s. Put the right one back; "+
				"nothing has been changed",
				ErrMaster, cmp.Or(known.Recipient, "another"), m.What, v.holds())
		}
	}
	if len(v.keys) == 0 {
		made, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		v.keys = []*age.X25519Identity{made}
		if err := m.write(v.keys); err != nil {
			return nil, err
		}
	}
	proof, to, err := v.Seal([]byte("piston"))
	if err != nil {
		return nil, err
	}
	return v, g.Store.AddMaster(ctx, store.Master{Recipient: to, Proof: proof})
}

func (v *Vault) holds() string {
	if len(v.keys) == 0 {
		return "is not there"
	}
	var list []string
	for _, k := range v.keys {
		list = append(list, k.Recipient().String())
	}
	return "holds that of " + strings.Join(list, " and ")
}

// Seal encrypts to the master in use and tells its recipient.
func (v *Vault) Seal(plain []byte) (sealed []byte, to string, err error) {
	v.mu.RLock()
	r := v.keys[0].Recipient()
	v.mu.RUnlock()
	sealed, err = SealTo(r, plain)
	return sealed, r.String(), err
}

// SealTo encrypts to a recipient.
func SealTo(to age.Recipient, plain []byte) ([]byte, error) {
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

// Open decrypts. When no identity fits, another server may have changed the master meanwhile: it is read again.
func (v *Vault) Open(sealed []byte) ([]byte, error) {
	plain, err := v.openWith(sealed)
	var none *age.NoIdentityMatchError
	if !errors.As(err, &none) {
		return plain, err
	}
	if again := v.reread(); again != nil {
		return nil, errors.Join(err, again)
	}
	return v.openWith(sealed)
}

func (v *Vault) reread() error {
	keys, err := v.master.read()
	if err == nil && len(keys) == 0 {
		err = ErrMaster
	}
	if err == nil {
		v.use(keys)
	}
	return err
}

func (v *Vault) use(keys []*age.X25519Identity) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, k := range v.keys {
		if !slices.ContainsFunc(keys, func(other *age.X25519Identity) bool { return other.String() == k.String() }) {
			v.former = append(v.former, k)
		}
	}
	v.keys = keys
}

// Sealing runs a transaction that writes an encrypted record. When the master it is encrypted to is no more, because
// a rotation came to its end meanwhile, here or in another server, it is encrypted and run once more.
func (v *Vault) Sealing(ctx context.Context, plain []byte, do func(q ground.Q, sealed []byte, to string) error) error {
	try := func() error {
		sealed, to, err := v.Seal(plain)
		if err != nil {
			return err
		}
		return v.Tx(ctx, func(q ground.Q) error { return do(q, sealed, to) })
	}
	err := try()
	if !errors.Is(err, store.ErrMaster) {
		return err
	}
	if err := v.reread(); err != nil {
		return err
	}
	return try()
}

func (v *Vault) openWith(sealed []byte) ([]byte, error) {
	v.mu.RLock()
	var identities []age.Identity
	for _, k := range slices.Concat(v.keys, v.former) {
		identities = append(identities, k)
	}
	v.mu.RUnlock()
	if len(identities) == 0 {
		return nil, ErrMaster
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), identities...)
	if err != nil {
		return nil, fmt.Errorf("opening a secret: is the master key the one it was set under? %w", err)
	}
	return io.ReadAll(r)
}

// rotationBatch is how many records are encrypted anew in one transaction.
const rotationBatch = 50

// rotationPause is how long to wait for records that others are at.
const rotationPause = 20 * time.Millisecond

// RotateMaster encrypts every secret anew, while serving. Where the service's own file holds the master, a new
// identity is made; otherwise the first of those given is taken, which somebody has put before the one in use.
func (v *Vault) RotateMaster(ctx context.Context) (api.MasterRotation, error) {
	if !v.rotating.TryLock() {
		return api.MasterRotation{}, fmt.Errorf("a rotation of the master that is at work %w; wait for its end",
			ground.ErrExists)
	}
	defer v.rotating.Unlock()
	old, err := v.master.read()
	if err != nil {
		return api.MasterRotation{}, err
	}
	keys := old
	switch {
	case v.master.Own:
		made, err := age.GenerateX25519Identity()
		if err != nil {
			return api.MasterRotation{}, err
		}
		keys = append([]*age.X25519Identity{made}, old...)
		if err := v.master.write(keys); err != nil { // it is kept before anything is encrypted to it
			return api.MasterRotation{}, err
		}
	case len(old) < 2:
		return api.MasterRotation{},
			fmt.Errorf("the master is %w to rotate: %s is not the service's to write. Put a new identity (age-keygen) before "+
				"the one in use, "+
				"start the service again, and rotate", ground.ErrInvalid, v.master.What)
	}
	to := keys[0].Recipient().String()
	out := api.MasterRotation{Recipient: to}
	proof, err := SealTo(keys[0].Recipient(), []byte("piston"))
	if err != nil {
		return out, err
	}
	if err := v.Store.AddMaster(ctx, store.Master{Recipient: to, Proof: proof}); err != nil {
		return out, err
	}
	v.use(keys)
	if out.Sealed, err = v.sealAllAnew(ctx, to); err != nil || !v.master.Own {
		return out, err
	}
	// The old identity opens dumps of the database that were made until now.
	gone := old[0].Recipient().String() // in the name, since two rotations may be of one second
	before := Master{File: v.master.File + ".until-" + time.Now().UTC().Format("20060102-150405-") + gone[len(gone)-6:]}
	if err := before.write(old); err != nil {
		return out, err
	}
	out.Former = before.File
	v.use(keys[:1])
	return out, v.master.write(keys[:1])
}

// sealAllAnew encrypts every record to the master in use, and forgets the others. Records that another transaction has
// are passed over, and one that was encrypted a moment ago is not there yet: it is done when the database lets the
// others go.
func (v *Vault) sealAllAnew(ctx context.Context, to string) (sealed int, err error) {
	for {
		n, err := v.sealAnew(ctx, to)
		sealed += n
		if err != nil {
			return sealed, err
		}
		if n > 0 {
			continue
		}
		err = v.Acting(ctx, fact.Fact{Kind: fact.MasterRotate, Subject: to, After: map[string]int{"sealed": sealed}},
			func(q ground.Q) error {
				return q.KeepMaster(ctx, to)
			})
		if !errors.Is(err, store.ErrMaster) {
			return sealed, err
		}
		select {
		case <-ctx.Done():
			return sealed, ctx.Err()
		case <-time.After(rotationPause):
		}
	}
}

// sealAnew encrypts a batch of records to the master in use.
func (v *Vault) sealAnew(ctx context.Context, to string) (n int, err error) {
	err = v.Tx(ctx, func(q ground.Q) error {
		list, err := q.SealedToOthers(ctx, to, rotationBatch)
		for _, r := range list {
			plain, err := v.Open(r.Ciphertext)
			if err != nil {
				return err
			}
			if r.Ciphertext, _, err = v.Seal(plain); err != nil {
				return err
			}
			if err := q.SealAnew(ctx, r, to); err != nil {
				return err
			}
		}
		n = len(list)
		return err
	})
	return n, err
}
