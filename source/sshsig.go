package source

import (
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"strings"

	"golang.org/x/crypto/ssh"
)

// sshsigMagic begins a signature and what is signed (OpenSSH, PROTOCOL.sshsig, 2 and 3).
const sshsigMagic = "SSHSIG"

// signedParts is what is signed of a message: its digest, in a namespace.
type signedParts struct {
	Namespace, Reserved, Hash, Digest string
}

// signature is what is told of it.
type signature struct {
	Version                                        uint32
	Key, Namespace, Reserved, Hash, SignatureBytes string
}

// signSSH signs a message as git wants it (git-config, gpg.format ssh), and gives the signature in its armour.
func signSSH(key ssh.Signer, message []byte) (string, error) {
	digest := sha512.Sum512(message)
	blob := append([]byte(sshsigMagic),
		ssh.Marshal(signedParts{Namespace: "git", Hash: "sha512", Digest: string(digest[:])})...)
	sign := func() (*ssh.Signature, error) { return key.Sign(rand.Reader, blob) }
	if key.PublicKey().Type() == ssh.KeyAlgoRSA {
		strong, is := key.(ssh.AlgorithmSigner)
		if !is {
			return "", errors.New("the key cannot sign by SHA-2")
		}
		sign = func() (*ssh.Signature, error) {
			return strong.SignWithAlgorithm(rand.Reader, blob, ssh.KeyAlgoRSASHA512)
		}
	}
	by, err := sign()
	if err != nil {
		return "", err
	}
	raw := append([]byte(sshsigMagic), ssh.Marshal(signature{Version: 1, Key: string(key.PublicKey().Marshal()),
		Namespace: "git", Hash: "sha512", SignatureBytes: string(ssh.Marshal(by))})...)
	text := base64.StdEncoding.EncodeToString(raw)
	var b strings.Builder
	b.WriteString("-----BEGIN SSH SIGNATURE-----\n")
	for len(text) > 0 {
		n := min(70, len(text))
		b.WriteString(text[:n] + "\n")
		text = text[n:]
	}
	b.WriteString("-----END SSH SIGNATURE-----")
	return b.String(), nil
}

// signed puts a signature into a commit's text, behind its headers (gitformat-signature, Commit signatures).
func signed(commit, sig string) string {
	headers, message, _ := strings.Cut(commit, "\n\n")
	return headers + "\ngpgsig " + strings.ReplaceAll(sig, "\n", "\n ") + "\n\n" + message
}
