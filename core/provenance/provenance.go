// Package provenance states from what a package was built, by whom and how, and what it is made of, so that it can be
// checked without the service: statements of in-toto (v1), with a predicate of SLSA (build provenance v1) or a bill of
// CycloneDX, in signed envelopes (DSSE).
package provenance

import (
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"time"

	"github.com/secure-systems-lab/go-securesystemslib/dsse"
)

// The types of what is stated.
const (
	statementType = "https://in-toto.io/Statement/v1"
	buildType     = "https://slsa.dev/provenance/v1"
	billType      = "https://cyclonedx.org/bom/v1.5"
	payloadType   = "application/vnd.in-toto+json"
	// BuildType says how to read the parameters.
	BuildType = "https://gentlepiston.example/build/v1"
)

// Statement is about one package.
type Statement struct {
	Type          string          `json:"_type"`
	Subject       []Subject       `json:"subject"`
	PredicateType string          `json:"predicateType"`
	Predicate     json.RawMessage `json:"predicate"`
}

// Subject is the package (in-toto, ResourceDescriptor).
type Subject struct {
	Name        string            `json:"name"`
	Digest      map[string]string `json:"digest"`
	Annotations map[string]string `json:"annotations,omitempty"` // app, version, build, kind
}

// Predicate is of SLSA.
type Predicate struct {
	BuildDefinition BuildDefinition `json:"buildDefinition"`
	RunDetails      RunDetails      `json:"runDetails"`
}

// BuildDefinition is what was asked for.
type BuildDefinition struct {
	BuildType            string     `json:"buildType"`
	ExternalParameters   Parameters `json:"externalParameters"`
	InternalParameters   Internal   `json:"internalParameters"`
	ResolvedDependencies []Source   `json:"resolvedDependencies"`
}

// Parameters are what whoever started the run could choose.
type Parameters struct {
	Project  string            `json:"project"`
	Pipeline string            `json:"pipeline"`
	Trigger  string            `json:"trigger"`
	Branch   string            `json:"branch,omitempty"`
	Tag      string            `json:"tag,omitempty"`
	Inputs   map[string]string `json:"inputs,omitempty"`
}

// Internal is what they could not.
type Internal struct {
	Runner string            `json:"runner"`
	Tools  map[string]string `json:"tools,omitempty"` // versions
	// How many rules of the checklist it was against, without those accepted.
	Against int `json:"against"`
}

// Source is the commit.
type Source struct {
	URI    string            `json:"uri"`
	Digest map[string]string `json:"digest"`
}

// RunDetails is who built it, and when.
type RunDetails struct {
	Builder  Builder  `json:"builder"`
	Metadata Metadata `json:"metadata"`
}

// Builder is the service.
type Builder struct {
	ID      string            `json:"id"`
	Version map[string]string `json:"version,omitempty"`
}

// Metadata is the run.
type Metadata struct {
	InvocationID string     `json:"invocationId"`
	Started      *time.Time `json:"startedOn,omitempty"`
	Finished     *time.Time `json:"finishedOn,omitempty"`
}

// New states from what a package was built.
func New(s Subject, p Predicate) (Statement, error) {
	text, err := json.Marshal(p)
	return Statement{statementType, []Subject{s}, buildType, text}, err
}

// NewBill states what a package is made of: a bill of CycloneDX, as JSON.
func NewBill(s Subject, bill json.RawMessage) Statement {
	return Statement{statementType, []Subject{s}, billType, bill}
}

// Build is from what the package was built.
func (s Statement) Build() (p Predicate, err error) {
	if s.PredicateType != buildType {
		return p, fmt.Errorf("the statement is of another kind: %.100q", s.PredicateType)
	}
	err = json.Unmarshal(s.Predicate, &p)
	return p, err
}

// Bill is what the package is made of.
func (s Statement) Bill() (json.RawMessage, error) {
	if s.PredicateType != billType {
		return nil, fmt.Errorf("the statement is of another kind: %.100q", s.PredicateType)
	}
	return s.Predicate, nil
}

// key signs and verifies envelopes.
type key struct {
	private ed25519.PrivateKey
	public  ed25519.PublicKey
}

// KeyID is the SHA-256 of a public key (RFC 8410, SubjectPublicKeyInfo), hexadecimal.
func KeyID(public ed25519.PublicKey) (string, error) {
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:]), nil
}

// KeyID implements dsse.Signer.
func (k key) KeyID() (string, error) { return KeyID(k.public) }

// Sign implements dsse.Signer.
func (k key) Sign(_ context.Context, data []byte) ([]byte, error) {
	return ed25519.Sign(k.private, data), nil
}

// Verify implements dsse.Verifier.
func (k key) Verify(_ context.Context, data, signature []byte) error {
	if !ed25519.Verify(k.public, data, signature) {
		return ErrSignature
	}
	return nil
}

// Public implements dsse.Verifier.
func (k key) Public() crypto.PublicKey { return k.public }

// ErrSignature says that an envelope was not signed by the key, or was changed since.
var ErrSignature = errors.New("it was not signed by this key, or was changed since")

// Seal puts a statement into an envelope.
func Seal(ctx context.Context, s Statement, private ed25519.PrivateKey) ([]byte, error) {
	text, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	signer, err := dsse.NewEnvelopeSigner(key{private, private.Public().(ed25519.PublicKey)})
	if err != nil {
		return nil, err
	}
	envelope, err := signer.SignPayload(ctx, payloadType, text)
	if err != nil {
		return nil, err
	}
	return json.Marshal(envelope)
}

// MaxEnvelope is the most bytes of an envelope that is opened.
const MaxEnvelope = 16 << 20

// Open takes a statement out of an envelope that a key has signed. Nothing of one that it has not is told.
func Open(ctx context.Context, text []byte, public ed25519.PublicKey) (s Statement, err error) {
	if len(text) > MaxEnvelope {
		return s, fmt.Errorf("the statement has %d bytes, at most %d are read", len(text), MaxEnvelope)
	}
	var envelope dsse.Envelope
	if err := json.Unmarshal(text, &envelope); err != nil {
		return s, fmt.Errorf("this is no signed statement: %w", err)
	}
	verifier, err := dsse.NewEnvelopeVerifier(key{public: public})
	if err != nil {
		return s, err
	}
	if _, err := verifier.Verify(ctx, &envelope); err != nil {
		return s, ErrSignature
	}
	payload, err := envelope.DecodeB64Payload()
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(payload, &s); err != nil {
		return s, fmt.Errorf("the statement cannot be read: %w", err)
	}
	if envelope.PayloadType != payloadType || s.Type != statementType || len(s.Subject) != 1 {
		return s, fmt.Errorf("the statement is of another kind: %.100q about %d files", s.PredicateType, len(s.Subject))
	}
	return s, nil
}

// ErrOther says that a statement is about other bytes.
var ErrOther = errors.New("these are not the bytes that were built")

// Check tells whether a statement is about bytes with a SHA-256, hexadecimal.
func (s Statement) Check(sum string) error {
	if s.Subject[0].Digest["sha256"] != sum {
		return fmt.Errorf("%w: their SHA-256 is %s, that of the package is %s", ErrOther, sum, s.Subject[0].Digest["sha256"])
	}
	return nil
}

// MarshalKey writes a public key as PEM.
func MarshalKey(public ed25519.PublicKey) (string, error) {
	der, err := x509.MarshalPKIXPublicKey(public)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})), err
}

// ParseKey reads one.
func ParseKey(text []byte) (ed25519.PublicKey, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "PUBLIC KEY" {
		return nil, errors.New("this is no public key in PEM")
	}
	parsed, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("this is no public key: %w", err)
	}
	public, is := parsed.(ed25519.PublicKey)
	if !is {
		return nil, fmt.Errorf("a key of type %T signs no statements; it is to be Ed25519", parsed)
	}
	return public, nil
}
