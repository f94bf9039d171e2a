package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// A program on somebody's machine signs in by their browser (RFC 8252, section 7.3): it listens on loopback, the
// browser goes to the issuer and comes back here, and we send it on to the program with a code. Only the program can
// redeem it, since only it knows what its challenge was made of (RFC 7636).

// Loopback is a program that waits for a browser. The zero value is none: the browser itself signs in.
type Loopback struct {
	Port      int    `json:"port"`
	Challenge string `json:"challenge"` // S256
}

// Check refuses what no program asks for.
func (l Loopback) Check() error {
	sum, err := base64.RawURLEncoding.DecodeString(l.Challenge)
	if l != (Loopback{}) && (l.Port < 1024 || l.Port > 65535 || err != nil || len(sum) != sha256.Size) {
		return fmt.Errorf("a sign-in by a program needs a port from 1024 to 65535 and an S256 challenge; it is %w",
			ground.ErrInvalid)
	}
	return nil
}

// to is where the browser goes with an answer.
func (l Loopback) to(key, value string) string {
	if l == (Loopback{}) {
		return ""
	}
	return "http://127.0.0.1:" + strconv.Itoa(l.Port) + "/?" + url.Values{key: {value}}.Encode()
}

// redeemFor is how long a code is good.
const redeemFor = time.Minute

// code makes one for a person who has come back from the issuer. It means something only by its record, and once.
func (s *People) code(ctx context.Context, p store.Person, l Loopback) (string, error) {
	code := rand.Text()
	return code, s.Store.AddRedeemable(ctx, hashToken(code), p.ID, l.Challenge, time.Now().Add(redeemFor))
}

// Redeem opens a session for the program that a code was sent to.
func (s *People) Redeem(ctx context.Context, in api.Redeem, address string) (Entry, error) {
	person, challenge, err := s.Store.Redeem(ctx, hashToken(in.Code))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Entry{}, err
	}
	sum := sha256.Sum256([]byte(in.Verifier))
	if err != nil || person.Disabled || base64.RawURLEncoding.EncodeToString(sum[:]) != challenge {
		return Entry{}, fmt.Errorf("%w: the code is not of this sign-in, was used, or is older than a minute; begin again",
			ErrIssuer)
	}
	return s.enter(ctx, person, address, "", true)
}
