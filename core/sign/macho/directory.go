package macho

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/asn1"
	"io"
	"math"

	"github.com/smallstep/pkcs7"
	"howett.net/plist"

	"gentlepiston.example/piston/core/sign"
)

// The numbers of a code directory.
const (
	directoryVersion = 0x20400 // with the main program's segment
	directoryLength  = 88
	hashSHA256       = 2
	mainProgram      = 1
	mayBeDebugged    = 0x10
	pageBits         = 12
	pageSize         = 1 << pageBits
	hashLength       = 20 // of the directory's own hash, as the kernel keeps it
)

// parts are those of a signature that do not depend on the code: they come before the directory is made, which has
// their sums.
func (a About) parts(chain []*x509.Certificate) ([]part, error) {
	list := []part{{slotRequirements, requirement(a.Identifier, chain)}}
	if a.Entitlements == nil {
		return list, nil
	}
	text, err := plist.MarshalIndent(a.Entitlements, plist.XMLFormat, "\t")
	if err != nil {
		return nil, wrong("its entitlements cannot be written: %v", err)
	}
	der, err := entitlementsDER(a.Entitlements)
	if err != nil {
		return nil, err
	}
	return append(list, part{slotEntitlements, blob(magicEntitlements, text)}, part{slotDER, der}), nil
}

// special is how many sums the directory has besides those of pages.
func (l *laid) special() int {
	if l.about.Entitlements != nil {
		return slotDER
	}
	return slotResources
}

// directorySize is how many bytes the directory over so much code has.
func (l *laid) directorySize(code int64) int64 {
	n := int64(8 + directoryLength - 8 + len(l.about.Identifier) + 1)
	if l.about.Team != "" {
		n += int64(len(l.about.Team) + 1)
	}
	return n + (up(code, pageSize)/pageSize+int64(l.special()))*sha256.Size
}

// needed is how much room a signature is given: what is known to the byte, and enough for the envelope.
func (l *laid) needed(code int64, by sign.Signer) int64 {
	n := 12 + l.directorySize(code) + roomForCMS
	for _, p := range l.parts {
		n += 8 + int64(len(p.blob))
	}
	for _, c := range by.Chain {
		n += int64(len(c.Raw))
	}
	return up(n, signatureUnit)
}

// signature makes the signature of a slice, as long as its room is.
func (l *laid) signature(ctx context.Context, by sign.Signer) (out, hash []byte, err error) {
	if l.content.size > math.MaxUint32 {
		return nil, nil, wrong("it is larger than 4 GB")
	}
	directory, err := l.directory(ctx)
	if err != nil {
		return nil, nil, err
	}
	sum := sha256.Sum256(directory)
	cms, err := envelope(directory, sum[:], by)
	if err != nil {
		return nil, nil, err
	}
	parts := append([]part{{slotDirectory, directory}}, l.parts...)
	out = super(append(parts, part{slotCMS, blob(magicWrapper, cms)}))
	if int64(len(out)) > l.reserved {
		return nil, nil, wrong("its signature has %d bytes, more than the %d kept for it", len(out), l.reserved)
	}
	return append(out, make([]byte, l.reserved-int64(len(out)))...), sum[:hashLength], nil
}

// directory makes the code directory (kern/cs_blobs.h, CS_CodeDirectory).
func (l *laid) directory(ctx context.Context) ([]byte, error) {
	size, special := l.content.size, l.special()
	pages := up(size, pageSize) / pageSize
	names := append([]byte(l.about.Identifier), 0)
	team := 0
	if l.about.Team != "" {
		team = directoryLength + len(names)
		names = append(append(names, l.about.Team...), 0)
	}
	flags := uint64(0)
	if l.kind == typeExecutable {
		flags = mainProgram
		if l.about.Entitlements["get-task-allow"] == true {
			flags |= mayBeDebugged
		}
	}
	hashes := directoryLength + len(names) + special*sha256.Size
	b := make([]byte, 0, l.directorySize(size))
	for _, n := range []uint32{magicDirectory, uint32(l.directorySize(size)), directoryVersion, 0, uint32(hashes),
		directoryLength, uint32(special), uint32(pages), uint32(size)} {
		b = big.AppendUint32(b, n)
	}
	b = append(b, sha256.Size, hashSHA256, 0, pageBits)
	for _, n := range []uint32{0, 0, uint32(team), 0} { // spare, scatter, team, spare
		b = big.AppendUint32(b, n)
	}
	for _, n := range []uint64{0, uint64(l.text.at), uint64(l.text.size), flags} { // the limit stands in 32 bits
		b = big.AppendUint64(b, n)
	}
	b = append(b, names...)
	slots := map[int][]byte{slotInfo: l.about.Info, slotResources: l.about.Resources}
	for _, p := range l.parts {
		slots[int(p.slot)] = p.blob
	}
	for n := special; n > 0; n-- {
		b = append(b, hashed(slots[n])...)
	}
	sums, err := pageHashes(ctx, l.content, size)
	return append(b, sums...), err
}

// pageHashes sums all pages; the last may be shorter.
func pageHashes(ctx context.Context, r io.ReaderAt, size int64) ([]byte, error) {
	const many = 256 * pageSize
	sums := make([]byte, up(size, pageSize)/pageSize*sha256.Size)
	err := sign.Each(ctx, int(up(size, many)/many), many, func(i int, buffer []byte) error {
		at := int64(i) * many
		n := min(many, size-at)
		if _, err := r.ReadAt(buffer[:n], at); err != nil && err != io.EOF {
			return err
		}
		for p := int64(0); p < n; p += pageSize {
			sum := sha256.Sum256(buffer[p:min(p+pageSize, n)])
			copy(sums[(at+p)/pageSize*sha256.Size:], sum[:])
		}
		return nil
	})
	return sums, err
}

// The signed attributes in which the hashes of directories stand: as a property list, and by their algorithm.
var (
	attributeList = asn1.ObjectIdentifier{1, 2, 840, 113635, 100, 9, 1}
	attributeHash = asn1.ObjectIdentifier{1, 2, 840, 113635, 100, 9, 2}
	oidSHA256     = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}
)

// envelope signs a directory (CMS, RFC 5652), which is not in it.
func envelope(directory, sum []byte, by sign.Signer) ([]byte, error) {
	var list bytes.Buffer
	if err := plist.NewEncoderForFormat(&list, plist.XMLFormat).Encode(map[string]any{
		"cdhashes": [][]byte{sum[:hashLength]}}); err != nil {
		return nil, err
	}
	sd, err := pkcs7.NewSignedData(directory)
	if err != nil {
		return nil, err
	}
	sd.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	config := pkcs7.SignerInfoConfig{ExtraSignedAttributes: []pkcs7.Attribute{
		{Type: attributeList, Value: list.Bytes()},
		{Type: attributeHash, Value: struct {
			Algorithm asn1.ObjectIdentifier
			Hash      []byte
		}{oidSHA256, sum}},
	}}
	if err := sd.AddSigner(by.Leaf(), by.Key, config); err != nil {
		return nil, err
	}
	for _, c := range by.Chain[1:] {
		sd.AddCertificate(c)
	}
	sd.Detach()
	return sd.Finish()
}
