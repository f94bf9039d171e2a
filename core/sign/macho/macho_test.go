package macho

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/mutate"
	"gentlepiston.example/piston/core/sign"
)

func signer(t *testing.T) sign.Signer {
	s, err := identity.Make(identity.P256, "Tidewick", 30, time.Unix(1_700_000_000, 0))
	require.NoError(t, err)
	return s
}

// program builds a small one by hand: a text segment with a section, and __LINKEDIT; room for so many bytes of load
// commands more.
func program(kind uint32, room int) []byte {
	const text, edit = 16 << 10, 5000
	commands := segment("__TEXT", 0, text, 1)
	commands = append(commands, section(0)...)
	commands = append(commands, segment("__LINKEDIT", text, edit, 0)...)
	commands = binary.LittleEndian.AppendUint32(commands, commandID)
	commands = binary.LittleEndian.AppendUint32(commands, 24)
	commands = append(commands, "0123456789abcdef"...)
	head := make([]byte, 32)
	for i, n := range []uint32{magic64, cpuARM | cpu64, 0, kind, 3, uint32(len(commands)), 0, 0} {
		binary.LittleEndian.PutUint32(head[4*i:], n)
	}
	b := append(head, commands...)
	binary.LittleEndian.PutUint32(b[32+72+48:], uint32(len(b)+room))
	r := rand.New(rand.NewPCG(7, 8))
	for len(b) < text+edit {
		b = append(b, byte(r.Uint32()))
	}
	clear(b[len(head)+len(commands) : len(head)+len(commands)+room])
	return b
}

func segment(name string, at, size uint64, sections uint32) []byte {
	b := make([]byte, 72)
	binary.LittleEndian.PutUint32(b, commandSegment64)
	binary.LittleEndian.PutUint32(b[4:], 72+80*sections)
	copy(b[8:24], name)
	binary.LittleEndian.PutUint64(b[40:], at)
	binary.LittleEndian.PutUint64(b[48:], size)
	binary.LittleEndian.PutUint32(b[64:], sections)
	return b
}

func section(at uint32) []byte {
	b := make([]byte, 80)
	copy(b, "__text")
	binary.LittleEndian.PutUint32(b[48:], at)
	return b
}

func signedBy(t *testing.T, b []byte, s sign.Signer, about About) []byte {
	p, err := Open(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	var out bytes.Buffer
	hashes, err := p.Sign(context.Background(), &out, s, about)
	require.NoError(t, err)
	require.NotEmpty(t, hashes)
	return out.Bytes()
}

// part of a signature, taken out by hand.
func partOf(t *testing.T, b []byte, slot uint32) []byte {
	at := -1
	count := int(binary.LittleEndian.Uint32(b[16:]))
	for i, c := 0, b[32:]; i < count; i++ {
		if binary.LittleEndian.Uint32(c) == 0x1d {
			at = int(binary.LittleEndian.Uint32(c[8:]))
			assert.EqualValues(t, len(b), at+int(binary.LittleEndian.Uint32(c[12:])), "the signature ends the file")
		}
		c = c[binary.LittleEndian.Uint32(c[4:]):]
	}
	require.Positive(t, at)
	all := b[at:]
	require.EqualValues(t, 0xfade0cc0, binary.BigEndian.Uint32(all))
	for i := range int(binary.BigEndian.Uint32(all[8:])) {
		if binary.BigEndian.Uint32(all[12+8*i:]) == slot {
			from := binary.BigEndian.Uint32(all[16+8*i:])
			return all[from : from+binary.BigEndian.Uint32(all[from+4:])]
		}
	}
	return nil
}

// verify checks a signature by hand: the sums of all pages and parts, and the envelope over the directory.
func verify(t *testing.T, b []byte, about About) {
	d := partOf(t, b, 0)
	u32 := func(at int) int { return int(binary.BigEndian.Uint32(d[at:])) }
	hashes, names, special, pages, limit := u32(16), u32(20), u32(24), u32(28), u32(32)
	assert.Equal(t, about.Identifier, string(d[names:names+len(about.Identifier)]))
	require.Equal(t, (limit+4095)/4096, pages)
	for i := range pages {
		sum := sha256.Sum256(b[i*4096 : min((i+1)*4096, limit)])
		require.Equal(t, sum[:], d[hashes+32*i:hashes+32*i+32], "page %d", i)
	}
	slot := func(n int) []byte { return d[hashes-32*n : hashes-32*n+32] }
	for n, content := range map[int][]byte{1: about.Info, 2: partOf(t, b, 2), 3: about.Resources} {
		want := make([]byte, 32)
		if content != nil {
			sum := sha256.Sum256(content)
			want = sum[:]
		}
		assert.Equal(t, want, slot(n), "slot %d", n)
	}
	if about.Entitlements != nil {
		require.Equal(t, 7, special)
		for _, n := range []int{5, 7} {
			sum := sha256.Sum256(partOf(t, b, uint32(n)))
			assert.Equal(t, sum[:], slot(n))
		}
	}
	m, err := pkcs7.Parse(partOf(t, b, 0x10000)[8:])
	require.NoError(t, err)
	m.Content = d
	require.NoError(t, m.Verify())
	var list []byte
	require.NoError(t, m.UnmarshalSignedAttribute(attributeList, &list))
	assert.Contains(t, string(list), "cdhashes")
}

var about = About{Identifier: "net.tidewick.almanac", Team: "TEAMTIDE01", Info: []byte("<plist/>"),
	Resources: []byte("seal"), Entitlements: map[string]any{"application-identifier": "TEAMTIDE01.net.tidewick.almanac",
		"get-task-allow": false, "groups": []any{"a", "b"}, "deep": map[string]any{"n": uint64(3)}}}

func TestAProgramIsSigned(t *testing.T) {
	s := signer(t)
	for _, a := range []About{about, {Identifier: "libtide"}} {
		verify(t, signedBy(t, program(typeExecutable, 64), s, a), a)
	}
}

func TestWhatIsSignedIsSignedAnew(t *testing.T) {
	first, second := signer(t), signer(t)
	once := signedBy(t, program(typeExecutable, 64), first, about)
	again := signedBy(t, once, second, About{Identifier: "net.tidewick.other"})
	verify(t, again, About{Identifier: "net.tidewick.other"})
	seen, err := Look(io.NopCloser(bytes.NewReader(again)), int64(len(again)), true)
	require.NoError(t, err)
	assert.Equal(t, second.Leaf().Raw, seen.Signer.Raw)
	assert.Nil(t, seen.Entitlements)
}

func TestALookTellsWhatWasSigned(t *testing.T) {
	s := signer(t)
	b := signedBy(t, program(typeExecutable, 64), s, about)
	seen, err := Look(io.NopCloser(bytes.NewReader(b)), int64(len(b)), true)
	require.NoError(t, err)
	assert.Equal(t, []SliceSeen{{"arm64", "30313233-3435-3637-3839-616263646566", int64(len(b))}}, seen.Slices)
	assert.Equal(t, "TEAMTIDE01.net.tidewick.almanac", seen.Entitlements["application-identifier"])
	assert.Equal(t, s.Leaf().Raw, seen.Signer.Raw)
}

// fat puts slices together.
func fat(slices ...[]byte) []byte {
	b := binary.BigEndian.AppendUint32(nil, magicFat)
	b = binary.BigEndian.AppendUint32(b, uint32(len(slices)))
	at := 16 << 10
	for i, s := range slices {
		for _, n := range []uint32{uint32(cpuARM | cpu64), uint32(i), uint32(at), uint32(len(s)), 14} {
			b = binary.BigEndian.AppendUint32(b, n)
		}
		at = (at + len(s) + 16<<10 - 1) &^ (16<<10 - 1)
	}
	for _, s := range slices {
		b = append(b, make([]byte, (16<<10-len(b)%(16<<10))%(16<<10))...)
		b = append(b, s...)
	}
	return b
}

func TestEachSliceOfAUniversalProgramIsSigned(t *testing.T) {
	s := signer(t)
	b := signedBy(t, fat(program(typeExecutable, 64), program(typeExecutable, 16)), s, about)
	for i := range 2 {
		at, size := binary.BigEndian.Uint32(b[16+20*i:]), binary.BigEndian.Uint32(b[20+20*i:])
		assert.Zero(t, at%(16<<10))
		verify(t, b[at:at+size], about)
	}
	seen, err := Look(io.NopCloser(bytes.NewReader(b)), int64(len(b)), true)
	require.NoError(t, err)
	assert.Len(t, seen.Slices, 2)
	assert.NotNil(t, seen.Signer)
}

func TestAProgramThatCannotBeSignedSaysWhy(t *testing.T) {
	good := program(typeExecutable, 64)
	change := func(at int, n uint32) []byte {
		b := bytes.Clone(good)
		binary.LittleEndian.PutUint32(b[at:], n)
		return b
	}
	for name, c := range map[string]struct {
		b    []byte
		says string
	}{
		"nothing":             {nil, "cut off"},
		"text":                {[]byte("no program at all"), "none of Apple's"},
		"cut off":             {good[:50], "cut off"},
		"many commands":       {change(16, 1<<30), "load commands"},
		"long commands":       {change(20, 1<<30), "load commands"},
		"a command of 0":      {change(36, 0), "load commands"},
		"many sections":       {change(32+64, 1<<20), "more sections than fit"},
		"no __LINKEDIT":       {bytes.Replace(good, []byte("__LINKEDIT"), []byte("__LINKNONE"), 1), "__LINKEDIT"},
		"segment outside":     {change(32+152+48, 1<<30), "outside of it"},
		"slices over another": {append([]byte{0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, 1}, make([]byte, 40)...), "overlap"},
	} {
		_, err := Open(bytes.NewReader(c.b), int64(len(c.b)))
		assert.ErrorContains(t, err, c.says, name)
	}
	p, err := Open(bytes.NewReader(program(typeExecutable, 8)), 16<<10+5000)
	require.NoError(t, err)
	_, err = p.Sign(context.Background(), io.Discard, signer(t), about)
	assert.ErrorContains(t, err, "-headerpad")
	p, err = Open(bytes.NewReader(good), int64(len(good)))
	require.NoError(t, err)
	_, err = p.Sign(context.Background(), io.Discard, signer(t), About{Identifier: "x",
		Entitlements: map[string]any{"when": time.Time{}}})
	assert.ErrorContains(t, err, "entitlements")
}

func TestNoProgramDoesHarm(t *testing.T) {
	s := signer(t)
	good := signedBy(t, fat(program(typeExecutable, 64)), s, about)
	tried, signed := 0, 0
	pick := func(r *rand.Rand) int {
		if r.IntN(8) == 0 {
			return r.IntN(len(good))
		}
		at := r.IntN(400)
		if at >= 50 { // the head of the only slice
			at += 16<<10 - 50
		}
		return at
	}
	mutate.Each(t, good, pick, func(b []byte) {
		_, _ = Look(io.NopCloser(bytes.NewReader(b)), int64(len(b)), true)
		p, err := Open(bytes.NewReader(b), int64(len(b)))
		if tried++; err != nil || tried%10 > 0 {
			return
		}
		if _, err := p.Sign(context.Background(), io.Discard, s, about); err == nil {
			signed++
		}
	})
	assert.NotZero(t, signed)
}
