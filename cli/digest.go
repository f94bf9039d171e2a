package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
)

// copyDigest copies and returns the SHA-256 of what it copied, in hexadecimal.
func copyDigest(to io.Writer, from io.Reader) (string, error) {
	h := sha256.New()
	_, err := io.Copy(io.MultiWriter(to, h), from)
	return hex.EncodeToString(h.Sum(nil)), err
}

func fileDigest(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return copyDigest(io.Discard, f)
}
