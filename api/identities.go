package api

import (
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/record"
)

// NewIdentity sets an identity's key: one that is made here, or one that is taken over. Exactly one of both is said.
type NewIdentity struct {
	Platform string `json:"platform" enum:"android,ios"`
	// The key follows the one that is there, whose key proves it (Android).
	Rotate bool `json:"rotate,omitempty"`
	// Make a key here.
	Make *MakeKey `json:"make,omitempty"`
	// Take the key of a file over: PKCS #12, JKS or PEM.
	Take *identity.File `json:"take,omitempty"`
	// Use a key that is in a token (HSM), and stays there.
	Token *TokenKey `json:"token,omitempty"`
	// What is to be said about it, too.
	Settings *IdentitySettings `json:"settings,omitempty"`
}

// MakeKey says which key to make.
type MakeKey struct {
	Algorithm identity.Algorithm `json:"algorithm" enum:"rsa-4096,rsa-3072,p256"`
	// The name in the certificate.
	Name string `json:"name" minLength:"1" maxLength:"64"`
	// How long the certificate is good.
	Years int `json:"years" minimum:"1" maximum:"100"`
}

// TokenKey says where a key is that the service asks for signatures.
type TokenKey struct {
	// The labels of the token, and of the key in it.
	Token string `json:"token" minLength:"1" maxLength:"32"`
	Key   string `json:"key" minLength:"1" maxLength:"255"`
	PIN   string `json:"pin" maxLength:"255"`
	// As PEM; needed when the token has none under the key's label.
	Certificates string `json:"certificates,omitempty" maxLength:"100000"`
}

// IdentitySettings says something about an identity; what is absent stays.
type IdentitySettings struct {
	Note *string `json:"note,omitempty" maxLength:"1000"`
	// The application ids it may sign; none: any.
	Apps *[]string `json:"apps,omitempty" maxItems:"50"`
	// Which runs may sign with it.
	Scope *access.Scope `json:"scope,omitempty"`
}

// Identity is a signing key in custody, without the key.
type Identity struct {
	Name     string       `json:"name"`
	Platform string       `json:"platform" enum:"android,ios"`
	Note     string       `json:"note,omitempty"`
	Apps     []string     `json:"apps"`
	Scope    access.Scope `json:"scope"`
	Revision int          `json:"revision"`
	// Whose certificate it is, and who gave it.
	Subject string `json:"subject"`
	Issuer  string `json:"issuer"`
	// The kind of its key.
	Key          string                `json:"key"`
	Begins       time.Time             `json:"begins"`
	Ends         time.Time             `json:"ends"`
	Fingerprints identity.Fingerprints `json:"fingerprints"`
	// Its certificates, as PEM.
	Certificates string `json:"certificates"`
	// The SHA-256 of the certificates of former keys that this one was proven to follow, the oldest first.
	Follows []string `json:"follows,omitempty"`
	// Whether the key was made here.
	Made bool `json:"made"`
	// The label of the token that the key is in; absent when it is kept here.
	Token string    `json:"token,omitempty"`
	Set   time.Time `json:"set"`
	By    string    `json:"by"`
	// When a copy of the key was taken away last, and by whom.
	Exported   *time.Time        `json:"exported,omitempty"`
	ExportedBy string            `json:"exported_by,omitempty"`
	Profiles   []AttachedProfile `json:"profiles"`
	// What should be looked after.
	Warnings []string `json:"warnings"`
}

// AttachedProfile is a provisioning profile that lies with an identity.
type AttachedProfile struct {
	Name string    `json:"name"`
	UUID string    `json:"uuid"`
	App  string    `json:"app"`
	Team string    `json:"team"`
	Ends time.Time `json:"ends"`
	// How many devices it is for; none for a store's.
	Devices int `json:"devices"`
}

// NewProfile is a provisioning profile that is to lie with an identity.
type NewProfile struct {
	// The bytes, in Base64 on the way.
	Data []byte `json:"data"`
}

// IdentityExport asks for a copy of a key.
type IdentityExport struct {
	Passphrase string `json:"passphrase" minLength:"12" maxLength:"1000"`
}

// ExportedIdentity is a copy of a key.
type ExportedIdentity struct {
	// A PKCS #12 file under the passphrase, in Base64 on the way.
	Data []byte `json:"data"`
}

// AppCertificate is the one that an app was signed by last.
type AppCertificate struct {
	Platform    string           `json:"platform" enum:"android,ios"`
	App         string           `json:"app"`
	Fingerprint string           `json:"fingerprint"`
	Run         record.RunNumber `json:"run"`
	Since       time.Time        `json:"since"`
	// The one that may take its place.
	Next string `json:"next,omitempty"`
}

// AllowCertificate says that an app may be signed by another certificate from now on.
type AllowCertificate struct {
	Platform string `json:"platform" enum:"android,ios"`
	App      string `json:"app" minLength:"1" maxLength:"255"`
	// Its SHA-256, hexadecimal with colons.
	Fingerprint string `json:"fingerprint" pattern:"^([0-9A-F]{2}:){31}[0-9A-F]{2}$"`
}

// GivenSignature tells who signed what with which key, and for what.
type GivenSignature struct {
	ID          int64            `json:"id"`
	At          time.Time        `json:"at"`
	Identity    string           `json:"identity"`
	Revision    int              `json:"revision"`
	Fingerprint string           `json:"fingerprint"`
	Platform    string           `json:"platform"`
	App         string           `json:"app"`
	File        string           `json:"file"`
	Digest      string           `json:"digest"` // hexadecimal
	Run         record.RunNumber `json:"run"`
	Pipeline    string           `json:"pipeline"`
	Branch      string           `json:"branch"`
	Commit      string           `json:"commit"`
	Step        int              `json:"step"`
	Runner      string           `json:"runner"`
}

// SignatureFilter says which signatures are wanted.
type SignatureFilter struct {
	Identity string           `query:"identity" maxLength:"63"`
	App      string           `query:"app" maxLength:"255"`
	Run      record.RunNumber `query:"run" minimum:"0"`
	Before   int64            `query:"before" minimum:"0" doc:"what a page before said under next"`
	Limit    int              `query:"limit" minimum:"1" maximum:"1000" default:"50"`
}

// SignaturePage is a page of signatures, newest first.
type SignaturePage struct {
	Signatures []GivenSignature `json:"signatures"`
	// Pass as before to get the following page; absent on the last.
	Next int64 `json:"next,omitempty"`
}

// IdentityRequest asks, for a step of an attempt, by whom a package is to be signed.
type IdentityRequest struct {
	Step     int    `json:"step" minimum:"0"`
	Platform string `json:"platform" enum:"android,ios"`
	App      string `json:"app" minLength:"1" maxLength:"255"`
}

// SigningIdentity is by whom: all but the key.
type SigningIdentity struct {
	Name         string   `json:"name"`
	Revision     int      `json:"revision"`
	Certificates string   `json:"certificates"` // PEM, its own first
	Profiles     [][]byte `json:"profiles"`
	// Where the key was rotated: the oldest one, for devices that know nothing of that, and the proof.
	Former  *FormerKey `json:"former,omitempty"`
	Lineage []byte     `json:"lineage,omitempty"`
}

// FormerKey is a key that an identity had before.
type FormerKey struct {
	Revision     int    `json:"revision"`
	Certificates string `json:"certificates"` // PEM, its own first
}

// SignatureRequest asks for a signature over a digest.
type SignatureRequest struct {
	IdentityRequest
	Identity string `json:"identity" maxLength:"63"`
	Revision int    `json:"revision" minimum:"1"`
	// What is signed, as people call it.
	File   string `json:"file" minLength:"1" maxLength:"1000"`
	Hash   string `json:"hash" enum:"sha256,sha1"`
	Digest []byte `json:"digest" minLength:"20" maxLength:"44"`
}

// MadeSignature is a signature.
type MadeSignature struct {
	Signature []byte `json:"signature"`
}
