package appfile

import (
	"bytes"
	"context"
	"errors"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/leak"
	"gentlepiston.example/piston/core/purpose"
)

// Inside is something in a package that is not for those who use the app.
type Inside struct {
	// secret, test-code, source-map or address.
	Kind string `json:"kind" enum:"secret,test-code,source-map,address"`
	Path string `json:"path"`
	// What it is; of a secret only its kind.
	What string `json:"what"`
}

// The kinds of what is found.
const (
	SecretInside  = "secret"
	TestInside    = "test-code"
	MapInside     = "source-map"
	AddressInside = "address"
)

// The bounds of a search.
const (
	maxInside   = 100
	maxSearched = 4 << 30 // bytes in all
	searchChunk = 1 << 20
	searchKept  = 512     // of a chunk, before the next one
	maxText     = 4 << 20 // of a file that is read for values under a secret's name
	maxJudged   = 500_000 // addresses and classes: a sound package has some thousand
)

// plainMedia are kinds of files in which nothing is written.
var plainMedia = []string{".png", ".jpg", ".jpeg", ".webp", ".gif", ".mp3", ".mp4", ".m4a", ".ogg", ".wav", ".ttf",
	".otf", ".woff", ".woff2"}

// textFiles are kinds in which settings are written.
var textFiles = []string{".json", ".xml", ".properties", ".js", ".txt", ".yml", ".yaml", ".ini", ".cfg", ".conf",
	".env", ".plist", ".toml", ".html", ".bundle"}

// keyFiles are kinds of files that hold keys.
var keyFiles = []string{".p12", ".pfx", ".jks", ".keystore", ".p8", ".key"}

// Search reads all that is in a package for what is not for those who use it, and for what the app asks people for. It
// fills Inside and Uses.
func (p *Package) Search(ctx context.Context) error {
	s := &search{Package: p, seen: map[string]bool{}, left: maxSearched}
	p.Inside, p.Uses = []Inside{}, []string{}
	for _, e := range p.Entries() {
		if e.Folder() {
			continue
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		s.named(e)
		if slices.Contains(plainMedia, strings.ToLower(path.Ext(e.Name))) || s.left < e.Size {
			continue
		}
		s.left -= e.Size
		if err := s.read(e); err != nil {
			return err
		}
	}
	slices.Sort(p.Uses)
	return nil
}

type search struct {
	*Package
	seen   map[string]bool
	left   int64
	judged int
}

// found takes note of a thing once.
func (s *search) found(kind, at, what string) {
	if key := kind + "\x00" + what; !s.seen[key] && len(s.Inside) < maxInside {
		s.seen[key] = true
		s.Inside = append(s.Inside, Inside{kind, at, what})
	}
}

// named judges an entry by its name.
func (s *search) named(e *archive.Entry) {
	base, ext := path.Base(e.Name), strings.ToLower(path.Ext(e.Name))
	switch {
	case slices.Contains(keyFiles, ext):
		s.found(SecretInside, e.Name, "a file of keys: "+base)
	case ext == ".map" && (strings.HasSuffix(base, ".js.map") || strings.HasSuffix(base, ".css.map") ||
		strings.HasSuffix(base, ".bundle.map")):
		s.found(MapInside, e.Name, base)
	case strings.Contains(e.Name, "/XCTest.framework/"), strings.Contains(e.Name, ".xctest/"):
		s.found(TestInside, e.Name, "XCTest")
	}
}

// read goes through an entry in pieces, of which each begins with the end of the one before.
func (s *search) read(e *archive.Entry) error {
	r := s.Content(e)
	defer r.Close()
	if e.Size <= maxText && slices.Contains(textFiles, strings.ToLower(path.Ext(e.Name))) {
		text, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		if _, is := leak.Find(string(text)); is {
			s.found(SecretInside, e.Name, "a value that looks like a password, token or key")
		}
		s.piece(e, text, true)
		return nil
	}
	b := make([]byte, searchKept+searchChunk)
	kept := 0
	for {
		n, err := io.ReadFull(r, b[kept:])
		all, last := b[:kept+n], errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !last {
			return err
		}
		if s.piece(e, all, last); last {
			return nil
		}
		kept = copy(b, all[len(all)-searchKept:])
	}
}

var (
	privateKey = []byte("PRIVATE KEY-----\n")
	scheme     = []byte("://")
	className  = []byte("_OBJC_CLASS_$_")
)

// testClasses are the beginnings of classes that only tests have.
var testClasses = []string{"Lorg/junit/", "Landroidx/test/", "Lorg/mockito/", "Lio/mockk/", "Lorg/robolectric/"}

// piece searches a part of an entry. What goes on behind its end is seen again with the next one.
func (s *search) piece(e *archive.Entry, b []byte, last bool) {
	if i := bytes.Index(b, privateKey); i >= 0 && bytes.Contains(b[max(0, i-40):i], []byte("-----BEGIN ")) {
		s.found(SecretInside, e.Name, "a private key")
	}
	if bytes.Contains(b, []byte("sourceMappingURL=data:")) {
		s.found(MapInside, e.Name, "a source map in "+path.Base(e.Name))
	}
	if path.Ext(e.Name) == ".dex" {
		s.mapping(b)
		for _, class := range testClasses {
			if bytes.Contains(b, []byte(class)) {
				s.found(TestInside, e.Name, strings.ReplaceAll(strings.Trim(class, "L/"), "/", "."))
			}
		}
	}
	s.each(b, scheme, func(at int) {
		if last || len(b)-at > maxHost+len(scheme) {
			s.address(e, b, at)
		}
	})
	if s.Platform == "ios" {
		s.each(b, className, func(at int) { s.uses(b[at+len(className):]) })
	}
}

// each visits the places of a mark.
func (s *search) each(b, mark []byte, do func(at int)) {
	for from := 0; s.judged < maxJudged; {
		i := bytes.Index(b[from:], mark)
		if i < 0 {
			return
		}
		s.judged++
		do(from + i)
		from += i + len(mark)
	}
}

// ownHost are addresses that only the one who develops reaches: private networks (RFC 1918), the emulator's way to its
// machine, names that are never resolved in public (RFC 2606, RFC 6762), and hosts that say they are for trying.
var ownHost = regexp.MustCompile(`^(10(\.\d{1,3}){3}|192\.168(\.\d{1,3}){2}|172\.(1[6-9]|2\d|3[01])(\.\d{1,3}){2}|` +
	`([a-z0-9-]+\.)+(local|test|internal|lan)|([a-z0-9-]+[.-])?(staging|qa|uat)[0-9]*\.[a-z0-9.-]+\.[a-z]{2,})$`)

const maxHost = 253 // RFC 1035

// address judges an address; at is where its :// stands.
func (s *search) address(e *archive.Entry, b []byte, at int) {
	kind := ""
	for _, known := range []string{"http", "https", "ws", "wss"} {
		if bytes.HasSuffix(b[:at], []byte(known)) {
			kind = known
		}
	}
	if kind == "" {
		return
	}
	rest := b[at+len(scheme):]
	rest = rest[:min(len(rest), maxHost)]
	end := bytes.IndexFunc(rest, func(r rune) bool {
		return r != '.' && r != '-' && (r < '0' || r > '9') && (r < 'a' || r > 'z')
	})
	if end < 0 {
		end = len(rest)
	}
	if host := string(rest[:end]); ownHost.MatchString(host) {
		s.found(AddressInside, e.Name, kind+"://"+host)
	}
}

// uses takes note of a class by which an app asks people for something.
func (s *search) uses(b []byte) {
	end := bytes.IndexByte(b[:min(len(b), 100)], 0)
	if end < 0 {
		return
	}
	name := string(b[:end])
	for _, p := range purpose.All {
		if slices.Contains(p.Words, name) && !slices.Contains(s.Uses, name) {
			s.Uses = append(s.Uses, name)
		}
	}
}
