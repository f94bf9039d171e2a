package profile

import (
	"crypto/x509"
	"time"

	"github.com/smallstep/pkcs7"
	"howett.net/plist"

	"gentlepiston.example/piston/core/sign"
)

// StandIn makes a provisioning profile that no device takes: for trials, demonstrations and tests. It says so in its
// name, and is signed by whoever makes it.
func StandIn(by sign.Signer, cert *x509.Certificate, team, app string, from, ends time.Time) ([]byte, error) {
	text, err := plist.MarshalIndent(map[string]any{
		"Name": "Stand-in for " + app, "UUID": "00000000-0000-4000-8000-000000000000",
		"TeamName": "Stand-in", "TeamIdentifier": []string{team}, "CreationDate": from.UTC(), "ExpirationDate": ends.UTC(),
		"DeveloperCertificates": [][]byte{cert.Raw},
		"Entitlements": map[string]any{"application-identifier": team + "." + app,
			"com.apple.developer.team-identifier": team, "get-task-allow": false,
			"keychain-access-groups": []string{team + ".*"}},
	}, plist.XMLFormat, "\t")
	if err != nil {
		return nil, err
	}
	sd, err := pkcs7.NewSignedData(text)
	if err != nil {
		return nil, err
	}
	sd.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	if err := sd.AddSigner(by.Leaf(), by.Key, pkcs7.SignerInfoConfig{}); err != nil {
		return nil, err
	}
	return sd.Finish()
}
