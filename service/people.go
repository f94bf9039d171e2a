package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"gentlepiston.example/piston/api"
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

// checking bounds how many passwords are tried at once, so that sign-ins cannot take the server's memory.
var checking = make(chan struct{}, 2)

func hashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails (crypto/rand)
	return encodeHash(salt, argon2.IDKey([]byte(password), salt, argonPasses, argonMemory, argonThreads, argonKey))
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
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &passes, &threads); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	key, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || version != argon2.Version {
		return false
	}
	checking <- struct{}{}
	defer func() { <-checking }()
	got := argon2.IDKey([]byte(password), salt, uint32(passes), uint32(memory), uint8(threads), uint32(len(key)))
	return subtle.ConstantTimeCompare(got, key) == 1
}

// Administrator is the name of the first person.
const Administrator = "admin"

// EnsureAdministrator makes the first person when there is nobody yet and returns the password made for them, ""
// otherwise. The password is kept nowhere.
func (s *Service) EnsureAdministrator(ctx context.Context) (password string, err error) {
	n, err := s.store.CountPeople(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	password = strings.ToLower(rand.Text()[:20])
	return password, s.store.AddPerson(ctx, Administrator, hashPassword(password))
}

// ErrSignIn says that name and password do not belong together; it does not say which of them is wrong.
var ErrSignIn = errors.New("name or password is wrong")

// nobody's hash is compared when there is no such person, so that both answers take the same time.
var nobody = sync.OnceValue(func() string { return hashPassword(rand.Text()) })

// SignIn opens a session and returns its token.
func (s *Service) SignIn(ctx context.Context, c api.Credentials) (token string, err error) {
	person, err := s.store.PersonByName(ctx, c.Name)
	if errors.Is(err, store.ErrNotFound) {
		passwordFits(c.Password, nobody())
		return "", ErrSignIn
	}
	if err != nil {
		return "", err
	}
	if !passwordFits(c.Password, person.PasswordHash) {
		return "", ErrSignIn
	}
	token = rand.Text()
	return token, s.store.AddSession(ctx, hashToken(token), person.ID, time.Now().Add(SessionLength))
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, token string) error {
	return s.store.EndSession(ctx, hashToken(token))
}

// Who is on the other end of a request.
type Who struct {
	Name string // of the person, or of the runner's token
	Kind api.TokenKind
}

// BySession finds who has a session.
func (s *Service) BySession(ctx context.Context, token string) (Who, error) {
	p, err := s.store.SessionPerson(ctx, hashToken(token))
	return Who{p.Name, api.PersonToken}, known(err, "session")
}

// ByToken finds whose API token it is.
func (s *Service) ByToken(ctx context.Context, token string) (Who, error) {
	t, err := s.store.TokenByHash(ctx, hashToken(token))
	if err != nil {
		return Who{}, known(err, "token")
	}
	if t.Kind == string(api.RunnerToken) {
		return Who{t.Name, api.RunnerToken}, nil
	}
	return Who{t.Person, api.PersonToken}, nil
}

// tokenPrefix makes a token easy to recognise, for people and for scanners of leaked secrets.
const tokenPrefix = "piston_"

// IssueToken makes an API token for a person or a runner.
func (s *Service) IssueToken(ctx context.Context, by string, n api.NewToken) (api.IssuedToken, error) {
	var person int64
	if n.Kind == api.PersonToken {
		p, err := s.store.PersonByName(ctx, by)
		if err != nil {
			return api.IssuedToken{}, known(err, "person %s", by)
		}
		person = p.ID
	}
	secret := tokenPrefix + rand.Text()
	t, err := s.store.AddToken(ctx, hashToken(secret), n.Name, n.Kind, person)
	return api.IssuedToken{Token: tokenOf(t), Secret: secret}, err
}

func tokenOf(t store.Token) api.Token {
	return api.Token{ID: t.ID, Name: t.Name, Kind: api.TokenKind(t.Kind), Created: t.Created, LastUsed: t.LastUsed}
}

// Tokens lists the tokens there are.
func (s *Service) Tokens(ctx context.Context) ([]api.Token, error) {
	list, err := s.store.Tokens(ctx)
	out := make([]api.Token, len(list))
	for i, t := range list {
		out[i] = tokenOf(t)
	}
	return out, err
}

// RevokeToken makes a token useless.
func (s *Service) RevokeToken(ctx context.Context, id int64) error {
	return known(s.store.RevokeToken(ctx, id), "token %d", id)
}

// hashToken: a token is long and random, so a plain hash is enough to keep it from being read back.
func hashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}
