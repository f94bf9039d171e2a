package macho

import (
	"crypto/x509"
	"fmt"
	"io"

	"github.com/smallstep/pkcs7"
	"howett.net/plist"
)

// Seen is what is known of a program from a look at it.
type Seen struct {
	Slices       []SliceSeen
	Entitlements map[string]any    // of the first slice that is signed
	Signer       *x509.Certificate // nil when nobody has, or only the linker
}

// SliceSeen is the code for one kind of processor.
type SliceSeen struct {
	Processor string
	UUID      string
	Size      int64
}

// The processors, by their numbers (mach/machine.h).
const (
	cpuX86     = 7
	cpuARM     = 12
	cpu64      = 0x01000000
	cpu64of32  = 0x02000000
	subMask    = 0x00ffffff
	subARM64E  = 2
	maxSeen    = 1 << 30
	maxSigning = 4 << 20
)

func processor(cpu, sub uint32) string {
	switch cpu {
	case cpuX86:
		return "x86"
	case cpuX86 | cpu64:
		return "x86_64"
	case cpuARM:
		return "armv7"
	case cpuARM | cpu64:
		if sub&subMask == subARM64E {
			return "arm64e"
		}
		return "arm64"
	case cpuARM | cpu64of32:
		return "arm64_32"
	}
	return fmt.Sprintf("cpu %d", cpu)
}

// Look reads a program from its beginning, once. Its signature, which is at the end, is read when asked for.
func Look(r io.ReadCloser, size int64, signature bool) (Seen, error) {
	defer r.Close()
	f := &forward{r: r, size: min(size, maxSeen)}
	var seen Seen
	_, err := open(f, size, func(s *slice) error {
		cpu, sub := little.Uint32(s.head[4:]), little.Uint32(s.head[8:])
		seen.Slices = append(seen.Slices, SliceSeen{processor(cpu, sub), s.uuid, s.size})
		if !signature || s.sign < 0 || seen.Signer != nil {
			return nil
		}
		length := int64(little.Uint32(s.head[s.sign+12:]))
		if length > maxSigning || s.code+length > s.size {
			return wrong("its signature lies outside of it, or has more than %d bytes", maxSigning)
		}
		b := make([]byte, length)
		if _, err := f.ReadAt(b, s.at+s.code); err != nil && err != io.EOF {
			return err
		}
		seen.signed(b)
		return nil
	})
	return seen, err
}

// signed reads a signature: what the program asks for, and who signed.
func (seen *Seen) signed(b []byte) {
	if len(b) < 12 || big.Uint32(b) != magicSignature {
		return
	}
	for i := range int(min(big.Uint32(b[8:]), 64)) {
		if 12+8*(i+1) > len(b) {
			return
		}
		slot, at := big.Uint32(b[12+8*i:]), uint64(big.Uint32(b[16+8*i:]))
		if at+8 > uint64(len(b)) {
			return
		}
		length := uint64(big.Uint32(b[at+4:]))
		if length < 8 || at+length > uint64(len(b)) {
			return
		}
		content := b[at+8 : at+length]
		switch slot {
		case slotEntitlements:
			values := map[string]any{}
			if _, err := plist.Unmarshal(content, &values); err == nil {
				seen.Entitlements = values
			}
		case slotCMS:
			if m, err := pkcs7.Parse(content); err == nil {
				seen.Signer = m.GetOnlySigner()
			}
		}
	}
}

// forward reads a stream at places that only rise, but for the beginning, which is kept.
type forward struct {
	r     io.Reader
	first []byte
	at    int64
	size  int64
}

// ReadAt implements io.ReaderAt.
func (f *forward) ReadAt(b []byte, at int64) (int, error) {
	if want := at + int64(len(b)); want <= maxCommands+4096 && f.at == int64(len(f.first)) && want > f.at {
		more := make([]byte, want-f.at)
		n, err := io.ReadFull(f.r, more)
		f.first, f.at = append(f.first, more[:n]...), f.at+int64(n)
		if err != nil {
			return 0, err
		}
	}
	if at+int64(len(b)) <= int64(len(f.first)) {
		return copy(b, f.first[at:]), nil
	}
	if at < f.at || at > f.size {
		return 0, wrong("it is too large to be looked at, or laid out backwards")
	}
	if _, err := io.CopyN(io.Discard, f.r, at-f.at); err != nil {
		return 0, err
	}
	n, err := io.ReadFull(f.r, b)
	f.at = at + int64(n)
	return n, err
}
