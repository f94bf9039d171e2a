// Package apk aligns and signs packages of Android: the entries as a JAR (scheme v1), the package as a whole (v2, v3),
// and beside it (v4). Which schemes a package needs follows from the oldest Android it is for; leaving one out that a
// device needs is not offered. Memory is the same for packages of any size.
package apk

import (
	"bufio"
	"bytes"
	"context"
	"crypto"
	"fmt"
	"io"
	"math"
	"path"
	"strings"

	"golang.org/x/sync/errgroup"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/sign"
	"gentlepiston.example/piston/core/sign/jar"
)

// The levels of the interface of Android from which a scheme is known.
const (
	sha256Since = 18 // 4.3, in signatures of entries
	v2Since     = 24 // 7.0
	v3Since     = 28 // 9
)

// maxPackage is the most bytes of a package: Android reads no archives of 64 bits.
const maxPackage = math.MaxUint32 - 64<<20

// libraryPage is what native libraries lie at a multiple of: devices map them, and those of 2025 have pages of 16 KB.
const libraryPage = 16 << 10

// Options say how to sign.
type Options struct {
	MinSDK int    // the lowest level of Android the package is for
	By     string // who made it, as manifests say it
	V4     bool   // make the file beside it, too
	// The key of before, where it was rotated, and the proof that the one that signs now follows it: devices that know no
	// v3 go by the former.
	Former  *sign.Signer
	Lineage []byte
}

// former is who signs for devices that know nothing of rotation.
func (o Options) former(s sign.Signer) sign.Signer {
	if o.Former != nil {
		return *o.Former
	}
	return s
}

// check refuses a rotation that no device would follow.
func (o Options) check(s sign.Signer) error {
	if err := s.Check(); err != nil || o.Former == nil && o.Lineage == nil {
		return err
	}
	list, err := Lineage(o.Lineage)
	if err != nil {
		return err
	}
	if o.Former == nil || !list[0].Equal(o.Former.Leaf()) || !list[len(list)-1].Equal(s.Leaf()) {
		return fmt.Errorf("%w: it does not lead from the one key to the other", ErrLineage)
	}
	return o.Former.Check()
}

// Result tells what was made.
type Result struct {
	Schemes []int  // 1, 2, 3, 4
	Beside  []byte // the file of v4; nil when none was wanted
	Size    int64
}

// File is where a package is written, and read again.
type File interface {
	io.Writer
	io.ReaderAt
}

// Sign writes a package again, aligned and signed. What it was signed with before is gone.
func Sign(ctx context.Context, in *archive.Archive, out File, s sign.Signer, o Options) (Result, error) {
	if err := o.check(s); err != nil {
		return Result{}, err
	}
	var r Result
	buffer := bufio.NewWriterSize(&until{ctx, out}, chunk) // a package may have many small entries
	w := archive.NewWriter(buffer)
	w.Plain = true
	if o.MinSDK < v2Since {
		r.Schemes = append(r.Schemes, 1)
	}
	if err := writeEntries(ctx, in, w, o.former(s), o); err != nil {
		return r, err
	}
	if err := buffer.Flush(); err != nil {
		return r, err
	}
	entries := w.At()
	if entries > maxPackage {
		return r, fmt.Errorf("the package has %d bytes: Android installs none of 4 GB and more", entries)
	}
	gap := int((pageSize - entries%pageSize) % pageSize)
	if err := write(out, make([]byte, gap)); err != nil {
		return r, err
	}
	entries += int64(gap)
	// What is signed says that the directory begins where the signing block will.
	directory, end := w.Directory(entries)
	digest, err := contentDigest(ctx, []section{{out, entries}, of(directory), of(end)})
	if err != nil {
		return r, err
	}
	v2, err := block(o.former(s), digest, schemeV2, 0, 0, framed(number(notStripped), number(3)))
	if err != nil {
		return r, err
	}
	var attributes []byte
	if o.Lineage != nil {
		attributes = framed(number(lineageAttribute), o.Lineage)
	}
	v3, err := block(s, digest, schemeV3, v3Since, math.MaxInt32, attributes)
	if err != nil {
		return r, err
	}
	pairs := []pair{{schemeV2, v2}, {schemeV3, v3}}
	r.Schemes = append(r.Schemes, 2, 3)
	made := signingBlock(pairs)
	directory, end = w.Directory(entries + int64(len(made)))
	for _, b := range [][]byte{made, directory, end} {
		if err := write(out, b); err != nil {
			return r, err
		}
	}
	r.Size = entries + int64(len(made)+len(directory)+len(end))
	if o.V4 {
		r.Schemes = append(r.Schemes, 4)
		r.Beside, err = beside(ctx, s, out, r.Size, digest)
	}
	return r, err
}

// writeEntries copies them, while those of scheme v1 are summed; what that makes comes last.
func writeEntries(ctx context.Context, in *archive.Archive, w *archive.Writer, s sign.Signer, o Options) error {
	var files []jar.File
	var both errgroup.Group
	if o.MinSDK < v2Since {
		both.Go(func() (err error) {
			files, err = signEntries(ctx, in, s, o)
			return err
		})
	}
	both.Go(func() error {
		for _, e := range in.Entries() {
			if jar.Belongs(e.Name) {
				continue
			}
			if err := w.Copy(in, e, alignment(e)); err != nil {
				return err
			}
		}
		return nil
	})
	err := both.Wait()
	for _, f := range files {
		if err == nil {
			err = w.Add(f.Name, f.Content, 0o644)
		}
	}
	return err
}

// signEntries makes the files of scheme v1.
func signEntries(ctx context.Context, in *archive.Archive, s sign.Signer, o Options) ([]jar.File, error) {
	hash := crypto.SHA256
	if o.MinSDK < sha256Since {
		if hash = crypto.SHA1; s.Elliptic() {
			return nil, fmt.Errorf("the package is for Android below level %d, which knows no ECDSA: raise minSdkVersion, or "+
				"sign with an RSA key", sha256Since)
		}
	}
	return jar.Sign(ctx, in, s, jar.Options{Hash: hash, Schemes: "2, 3", By: o.By})
}

// alignment is where an entry may begin that is not packed.
func alignment(e *archive.Entry) int64 {
	if strings.HasPrefix(e.Name, "lib/") && path.Ext(e.Name) == ".so" {
		return libraryPage
	}
	return 4
}

func of(b []byte) section { return section{bytes.NewReader(b), int64(len(b))} }

func write(w io.Writer, b []byte) error {
	_, err := w.Write(b)
	return err
}

// until writes until a context is done.
type until struct {
	ctx context.Context
	w   io.Writer
}

func (u *until) Write(b []byte) (int, error) {
	if err := context.Cause(u.ctx); err != nil {
		return 0, err
	}
	return u.w.Write(b)
}
