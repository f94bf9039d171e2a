package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Argon2id with 19 MiB and two passes, OWASP's first recommendation (RFC 9106 is the algorithm).
const (
	argonPasses  = 2
	argonMemory  = 19 << 10 // KiB
	argonThreads = 1
	argonKey     = 32
)

// SessionLength is how long a session lasts.
const SessionLength = 14 * 24 * time.Hour

// deriving bounds how many keys are derived at once, so that sign-ins cannot take the server's memory.
var deriving = make(chan struct{}, 2)

// derive derives a key from a password. The memory that takes is given back at once: an idle server would keep it.
func derive(password string, salt []byte, passes, memory, threads, size int) []byte {
	deriving <- struct{}{}
	defer func() { <-deriving }()
	defer debug.FreeOSMemory()
	return argon2.IDKey([]byte(password), salt, uint32(passes), uint32(memory), uint8(threads), uint32(size))
}

func hashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails (crypto/rand)
	return encodeHash(salt, derive(password, salt, argonPasses, argonMemory, argonThreads, argonKey))
}

func encodeHash(salt, key []byte) string {
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonPasses, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

func passwordFits(password, encoded string) bool {
	parts := strings.Split(encoded, "$")
	if len(parts) != 6 {
		return false
	}
	var version, memory, passes, threads int
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &passes,
		&threads); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	key, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || version != argon2.Version {
		return false
	}
	got := derive(password, salt, passes, memory, threads, len(key))
	return subtle.ConstantTimeCompare(got, key) == 1
}

// TooMany is an error that says how long to wait before the next try.
type TooMany struct{ Wait time.Duration }

func (e TooMany) Error() string {
	return fmt.Sprintf("too many tries have failed; wait %s before the next", e.Wait.Round(time.Second))
}

// What may fail within failuresFor before one has to wait. The place is an address, or a browser from which the
// person has signed in before, against which nothing counts that others do elsewhere.
const (
	failuresFor       = 15 * time.Minute
	FreeFailures      = 5   // of a name from a place
	maxPlaceFailures  = 60  // from a place
	MaxNameFailures   = 100 // of a name, from places that are not known as the person's
	longestSignInWait = 5 * time.Minute
)

// Entry is an open session.
type Entry struct {
	Session string // its token
	Device  string // token that makes the browser known; "" when it was already
}

// SignIn opens a session. address is where the request came from, device what the browser shows of earlier ones.
func (s *People) SignIn(ctx context.Context, c api.Credentials, address, device string) (Entry, error) {
	name := strings.TrimSpace(c.Name)
	place, isDevice := address, false
	if device != "" {
		is, err := s.Store.IsDevice(ctx, hashToken(device), name)
		if err != nil {
			return Entry{}, err
		}
		if is {
			place, isDevice = "device "+hex.EncodeToString(hashToken(device)), true
		}
	}
	if err := s.mayTry(ctx, name, place, isDevice); err != nil {
		return Entry{}, err
	}
	person, err := s.Store.PersonByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		person.PasswordHash = nobody()
	} else if err != nil {
		return Entry{}, err
	}
	fits := passwordFits(c.Password, person.PasswordHash)
	if err != nil || !fits || person.Disabled {
		ctx := ground.WithWho(ctx, ground.Who{Name: name, Kind: api.PersonToken, Address: address})
		err := s.Acting(ctx, fact.Fact{Kind: fact.SessionRefuse, Subject: name},
			func(q ground.Q) error { return q.NoteSignInFailure(ctx, name, place) })
		return Entry{}, errors.Join(ground.ErrSignIn, err)
	}
	if err := s.Store.ForgiveFailures(ctx, name, place); err != nil {
		return Entry{}, err
	}
	if isDevice {
		device = ""
	} else {
		device = rand.Text()
	}
	return s.enter(ctx, person, address, device, false)
}

// mayTry refuses a sign-in for which there were too many failed ones.
func (s *People) mayTry(ctx context.Context, name, place string, isDevice bool) error {
	f, err := s.Store.SignInFailures(ctx, name, place, time.Now().Add(-failuresFor))
	if err != nil {
		return err
	}
	if over := f.Both - FreeFailures; over >= 0 && f.Last != nil {
		wait := min(longestSignInWait, time.Second<<min(over, 16))
		if left := time.Until(f.Last.Add(wait)); left > 0 {
			return TooMany{left}
		}
	}
	if f.From >= maxPlaceFailures || !isDevice && f.Name >= MaxNameFailures {
		return TooMany{longestSignInWait}
	}
	return nil
}

// enter opens a session for somebody who has shown who they are.
func (s *People) enter(ctx context.Context, person store.Person, address, device string,
	byIssuer bool) (Entry, error) {
	e := Entry{Session: rand.Text(), Device: device}
	ctx = ground.WithWho(ctx, ground.Who{Name: person.Name, Kind: api.PersonToken, Address: address})
	a := fact.Fact{Kind: fact.SessionOpen, Subject: person.Name, After: map[string]any{"by_issuer": byIssuer}}
	if byIssuer { // which says at each sign-in what they may
		a.After = map[string]any{"by_issuer": true, "groups": ground.NonNil(person.Groups),
			"administrator": person.Administrator || person.ByGroup}
	}
	err := s.Acting(ctx, a, func(q ground.Q) error {
		if device != "" {
			if err := q.AddDevice(ctx, hashToken(device), person.ID); err != nil {
				return err
			}
		}
		return q.AddSession(ctx, hashToken(e.Session), person.ID, time.Now().Add(SessionLength), address, byIssuer)
	})
	return e, err
}

// nobody's hash is compared when there is no such person, so that both answers take the same time.
var nobody = sync.OnceValue(func() string { return hashPassword(rand.Text()) })

// SignOut ends a session; for whoever came in by a token, that token.
func (s *People) SignOut(ctx context.Context, token string) error {
	if by := ground.WhoAsks(ctx).Token; by != 0 {
		return s.RevokeToken(ctx, by)
	}
	return s.Acting(ctx, fact.Fact{Kind: fact.SessionClose, Subject: ground.WhoAsks(ctx).Name},
		func(q ground.Q) error { return q.EndSession(ctx, hashToken(token)) })
}

// BySession finds who has a session.
func (s *People) BySession(ctx context.Context, token string) (ground.Who, error) {
	p, err := s.Store.SessionPerson(ctx, hashToken(token))
	return ground.Who{ID: p.ID, Name: p.Name, Kind: api.PersonToken, Administrator: p.Administrator || p.ByGroup},
		ground.Known(err, "session")
}

// hashToken: a token is long and random, so a plain hash is enough to keep it from being read back.
func hashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}
