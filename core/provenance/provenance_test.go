package provenance

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/mutate"
)

func sealed(t *testing.T) (text []byte, public ed25519.PublicKey) {
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	s, err := New(Subject{Name: "tide.apk", Digest: map[string]string{"sha256": strings.Repeat("ab", 32)}},
		Predicate{BuildDefinition: BuildDefinition{BuildType: BuildType, ResolvedDependencies: []Source{{URI: "git+file:///tide",
			Digest: map[string]string{"gitCommit": "c0ffee"}}}}})
	require.NoError(t, err)
	text, err = Seal(context.Background(), s, private)
	require.NoError(t, err)
	return text, public
}

func TestAStatementIsOpenedByItsKey(t *testing.T) {
	text, public := sealed(t)
	s, err := Open(context.Background(), text, public)
	require.NoError(t, err)
	p, err := s.Build()
	require.NoError(t, err)
	assert.Equal(t, "c0ffee", p.BuildDefinition.ResolvedDependencies[0].Digest["gitCommit"])
	assert.NoError(t, s.Check(strings.Repeat("ab", 32)))
	assert.ErrorIs(t, s.Check(strings.Repeat("cd", 32)), ErrOther)
	_, err = s.Bill()
	assert.ErrorContains(t, err, "another kind")
	_, err = NewBill(s.Subject[0], []byte("{}")).Build()
	assert.ErrorContains(t, err, "another kind")
	_, other := sealed(t)
	_, err = Open(context.Background(), text, other)
	assert.ErrorIs(t, err, ErrSignature)
}

func TestWhatWasChangedOrIsAnotherKindIsRefused(t *testing.T) {
	text, public := sealed(t)
	var envelope map[string]any
	require.NoError(t, json.Unmarshal(text, &envelope))
	change := func(key string, value any) []byte {
		old := envelope[key]
		envelope[key] = value
		b, err := json.Marshal(envelope)
		require.NoError(t, err)
		envelope[key] = old
		return b
	}
	for name, b := range map[string][]byte{"nothing": nil, "text": []byte("trust me"), "no signature": change("signatures", []any{}),
		"another payload": change("payload", "e30="), "another type": change("payloadType", "text/plain"),
		"too long": bytes.Repeat([]byte("x"), MaxEnvelope+1)} {
		_, err := Open(context.Background(), b, public)
		assert.Error(t, err, name)
	}
	opened := 0
	mutate.Each(t, text, func(r *rand.Rand) int { return r.IntN(len(text)) }, func(b []byte) {
		if s, err := Open(context.Background(), b, public); err == nil {
			opened++
			assert.Equal(t, "tide.apk", s.Subject[0].Name, "what is opened is what was signed")
		}
	})
	assert.NotZero(t, opened, "a byte that is none of the statement's may change")
}

func TestAKeyIsWrittenAndRead(t *testing.T) {
	_, public := sealed(t)
	text, err := MarshalKey(public)
	require.NoError(t, err)
	again, err := ParseKey([]byte(text))
	require.NoError(t, err)
	assert.Equal(t, public, again)
	for _, bad := range []string{"", "-----BEGIN PUBLIC KEY-----\nAAAA\n-----END PUBLIC KEY-----\n", "key"} {
		_, err := ParseKey([]byte(bad))
		assert.Error(t, err)
	}
}
