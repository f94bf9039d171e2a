// Package jar signs the entries of a JAR (JAR File Specification, "Signed JAR File"), as app bundles and APKs for
// Android before 7 are signed: a manifest with the digest of each entry, a file with the digest of that, and a
// signature over the file.
package jar

import (
	"bytes"
	"context"
	"crypto"
	_ "crypto/sha1" // what Android before 4.3 knows
	_ "crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/smallstep/pkcs7"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/sign"
)

// Folder is where manifest and signatures lie.
const Folder = "META-INF/"

// name is what the signature's files are called.
const name = "PISTON"

// maxUnpacked bounds the bytes that are summed: an archive of a few megabytes can say that it is a terabyte.
const maxUnpacked = 32 << 30

// Options say how to sign.
type Options struct {
	Hash    crypto.Hash // of the entries: SHA-256, or SHA-1 for Android before 4.3
	Schemes string      // the schemes of APKs beside this one, such as "2, 3", so that nobody strips them off
	By      string      // who made it
}

// File is one of the files that make the signature.
type File struct {
	Name    string
	Content []byte
}

// Belongs tells whether an entry is part of a signature, and is left out of the next.
func Belongs(entry string) bool {
	if !strings.EqualFold(path.Dir(entry), "META-INF") {
		return false
	}
	base := strings.ToUpper(path.Base(entry))
	switch path.Ext(base) {
	case ".SF", ".RSA", ".DSA", ".EC":
		return true
	}
	return base == "MANIFEST.MF" || strings.HasPrefix(base, "SIG-")
}

// Sign makes the files of a signature over all entries but folders and former signatures.
func Sign(ctx context.Context, a *archive.Archive, s sign.Signer, o Options) ([]File, error) {
	var entries []*archive.Entry
	left := int64(maxUnpacked)
	for _, e := range a.Entries() {
		if left -= e.Size; left < 0 {
			return nil, &archive.Error{What: fmt.Sprintf("it unpacks to more than %d bytes", int64(maxUnpacked))}
		}
		if e.Folder() || Belongs(e.Name) {
			continue
		}
		if strings.ContainsAny(e.Name, "\r\n") {
			return nil, &archive.Error{Entry: e.Name, What: "a name with a line break cannot stand in a manifest"}
		}
		entries = append(entries, e)
	}
	sums, err := digests(ctx, a, entries, o.Hash)
	if err != nil {
		return nil, err
	}
	label := "SHA-256"
	if o.Hash == crypto.SHA1 {
		label = "SHA1"
	}
	var manifest, file, sections bytes.Buffer
	attribute(&manifest, "Manifest-Version", "1.0")
	attribute(&manifest, "Created-By", o.By)
	manifest.WriteString("\r\n")
	for i, e := range entries {
		var section bytes.Buffer
		attribute(&section, "Name", e.Name)
		attribute(&section, label+"-Digest", sums[i])
		section.WriteString("\r\n")
		manifest.Write(section.Bytes())
		attribute(&sections, "Name", e.Name)
		attribute(&sections, label+"-Digest", digest(o.Hash, section.Bytes()))
		sections.WriteString("\r\n")
	}
	attribute(&file, "Signature-Version", "1.0")
	attribute(&file, "Created-By", o.By)
	attribute(&file, label+"-Digest-Manifest", digest(o.Hash, manifest.Bytes()))
	if o.Schemes != "" {
		attribute(&file, "X-Android-APK-Signed", o.Schemes)
	}
	file.WriteString("\r\n")
	file.Write(sections.Bytes())
	block, err := envelope(file.Bytes(), s, o.Hash)
	if err != nil {
		return nil, err
	}
	kind := ".RSA"
	if s.Elliptic() {
		kind = ".EC"
	}
	return []File{{Folder + "MANIFEST.MF", manifest.Bytes()}, {Folder + name + ".SF", file.Bytes()},
		{Folder + name + kind, block}}, nil
}

// envelope is the signature over bytes that are not in it (RFC 5652), without signed attributes: devices before
// Android 4.4 know none, and without a time the same input gives the same bytes.
func envelope(data []byte, s sign.Signer, hash crypto.Hash) ([]byte, error) {
	sd, err := pkcs7.NewSignedData(data)
	if err != nil {
		return nil, err
	}
	sd.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	if hash == crypto.SHA1 {
		sd.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA1)
	}
	if err := sd.SignWithoutAttr(s.Leaf(), s.Key, pkcs7.SignerInfoConfig{}); err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	for _, c := range s.Chain[1:] {
		sd.AddCertificate(c)
	}
	sd.Detach()
	return sd.Finish()
}

func digest(hash crypto.Hash, b []byte) string {
	h := hash.New()
	h.Write(b)
	return base64.StdEncoding.EncodeToString(h.Sum(nil))
}

// digests gives the sums of entries.
func digests(ctx context.Context, a *archive.Archive, entries []*archive.Entry, hash crypto.Hash) ([]string, error) {
	sums := make([]string, len(entries))
	err := sign.Each(ctx, len(entries), 128<<10, func(i int, buffer []byte) error {
		h, content := hash.New(), a.Content(entries[i])
		_, err := io.CopyBuffer(h, content, buffer)
		sums[i] = base64.StdEncoding.EncodeToString(h.Sum(nil))
		return errors.Join(err, content.Close())
	})
	return sums, err
}

// lineLength is the most bytes of a line; what is longer goes on in the next, after a space.
const lineLength = 70

// attribute writes a name and its value.
func attribute(b *bytes.Buffer, key, value string) {
	line := key + ": " + value
	for first := true; len(line) > 0; first = false {
		n := min(len(line), lineLength)
		if !first {
			b.WriteByte(' ')
			n = min(len(line), lineLength-1)
		}
		b.WriteString(line[:n])
		b.WriteString("\r\n")
		line = line[n:]
	}
}

// Bundle signs an app bundle: all that is in it, and nothing lies between its entries and its directory.
func Bundle(ctx context.Context, in *archive.Archive, out io.Writer, s sign.Signer, by string) error {
	if err := s.Check(); err != nil {
		return err
	}
	files, err := Sign(ctx, in, s, Options{Hash: crypto.SHA256, By: by})
	if err != nil {
		return err
	}
	w := archive.NewWriter(out)
	w.Plain = true
	for _, f := range files {
		if err := w.Add(f.Name, f.Content, 0o644); err != nil {
			return err
		}
	}
	for _, e := range in.Entries() {
		if Belongs(e.Name) {
			continue
		}
		if err := w.Copy(in, e, 1); err != nil {
			return err
		}
	}
	return w.Close()
}
