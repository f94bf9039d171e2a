package appfile

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/archive"
)

// with adds entries to a package.
func with(t *testing.T, good []byte, more map[string]string) *Package {
	a, err := archive.Open(bytes.NewReader(good), int64(len(good)))
	require.NoError(t, err)
	var out bytes.Buffer
	w := archive.NewWriter(&out)
	for _, e := range a.Entries() {
		if _, replaced := more[e.Name]; !replaced {
			require.NoError(t, w.Copy(a, e, 1))
		}
	}
	for name, text := range more {
		require.NoError(t, w.AddFile(name, strings.NewReader(text), 0o644, strings.HasSuffix(name, ".dex")))
	}
	require.NoError(t, w.Close())
	p, err := Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	return p
}

// header is that of a file of code.
func header(classes, methods uint32) string {
	b := make([]byte, dexHeader)
	copy(b, "dex\n039\x00")
	binary.LittleEndian.PutUint32(b[0x60:], classes)
	binary.LittleEndian.PutUint32(b[0x58:], methods)
	return string(b)
}

func TestWhatIsNotForPeopleIsFound(t *testing.T) {
	far := strings.Repeat("x", searchChunk)
	p := with(t, sample(t, "signed.apk"), map[string]string{
		"classes.dex":            header(70, 900) + "Lorg/junit/Test;" + `~~R8{"pg-map-id":"0f3a9c1","min-api":21}`,
		"assets/a.txt":           "-----BEGIN PRIVATE" + " KEY-----\nMIIB",
		"assets/settings.json":   `{"api_key": "` + "q8Zr2LxV0t" + `Yb7NcM9k"}`,
		"assets/app.js.map":      "{}",
		"assets/upload.jks":      "x",
		"assets/hosts.bin":       "http://10.0.2.2:8080/a https://staging.tidewick.example wss://gauge.local/x http://172.32.0.1",
		"assets/far.bin":         far + "https://192.168.7.9/" + far[:200],
		"assets/edge.bin":        far[:searchChunk-12] + "https://qa.tidewick.example/x" + far[:900],
		"assets/good.bin":        "https://tidewick.example http://localhost/ https://dev.tidewick.example 10.1.2.3 ftp://10.0.0.1",
		"assets/pictures/a.webp": "http://10.0.0.1",
	})
	require.NoError(t, p.Search(context.Background()))
	found := map[string]string{}
	for _, i := range p.Inside {
		found[i.What] = i.Kind + " " + i.Path
	}
	assert.Equal(t, map[string]string{
		"a private key": "secret assets/a.txt",
		"a value that looks like a password, token or key": "secret assets/settings.json",
		"a file of keys: upload.jks":                       "secret assets/upload.jks",
		"app.js.map":                                       "source-map assets/app.js.map",
		"org.junit":                                        "test-code classes.dex",
		"http://10.0.2.2":                                  "address assets/hosts.bin",
		"https://staging.tidewick.example":                 "address assets/hosts.bin",
		"wss://gauge.local":                                "address assets/hosts.bin",
		"https://192.168.7.9":                              "address assets/far.bin",
		"https://qa.tidewick.example":                      "address assets/edge.bin",
	}, found)
	assert.Equal(t, []Code{{"classes.dex", "039", 70, 900}}, p.Code)
	assert.Equal(t, "0f3a9c1", p.Mapping)

	stopped, stop := context.WithCancel(context.Background())
	stop()
	assert.ErrorIs(t, p.Search(stopped), context.Canceled)
}

func TestWhatAnAppOfIOSAsksPeopleFor(t *testing.T) {
	p := with(t, sample(t, "Tidewick.ipa"), map[string]string{
		"Payload/Tidewick.app/extra.bin":           "_OBJC_CLASS_$_CLLocationManager\x00_OBJC_CLASS_$_NSString\x00",
		"Payload/Tidewick.app/T.xctest/Info.plist": "x",
	})
	require.NoError(t, p.Search(context.Background()))
	assert.Equal(t, []string{"CLLocationManager"}, p.Uses)
	assert.Equal(t, []Inside{{TestInside, "Payload/Tidewick.app/T.xctest/Info.plist", "XCTest"}}, p.Inside)
}

func TestSymbolsAreMatched(t *testing.T) {
	p := with(t, sample(t, "signed.apk"), map[string]string{"classes.dex": header(1, 1) + `"pg-map-id":"abcdef0"`})
	require.NoError(t, p.Search(context.Background()))
	library := p.Programs[0]
	read := func(text string) (Symbols, bool) {
		return ReadSymbols(strings.NewReader(text), int64(len(text)))
	}
	e := p.Find(library.Path)
	text, err := p.Read(e, 1<<20)
	require.NoError(t, err)
	native, is := read(string(text))
	require.True(t, is)
	assert.Equal(t, LibrarySymbols, native.Kind)
	names, is := read("# compiler: R8\n# pg_map_id: abcdef0\na.b -> c:\n")
	require.True(t, is)
	assert.Equal(t, Symbols{Kind: MappingSymbols, Size: 46, IDs: []string{"abcdef0"}, Of: []string{}}, names)
	for _, none := range []string{"", "text", "\x7fEL", "# pg_map_id: no\n"} {
		_, is := read(none)
		assert.False(t, is, "%q", none)
	}
	native.IDs = []string{"00ff"} // the sample's libraries have no build ids
	p.Programs[0].BuildID = "00ff"
	p.Match([]Symbols{native, names})
	assert.Equal(t, []string{library.Path}, p.Symbols[0].Of)
	assert.Equal(t, []string{"classes.dex"}, p.Symbols[1].Of)
	assert.Equal(t, []string{p.Programs[1].Path, p.Programs[2].Path}, p.Unreadable())
	p.Match([]Symbols{{Kind: MappingSymbols, IDs: []string{"0000000"}}})
	assert.Contains(t, p.Unreadable(), "classes.dex", "a mapping of another build")

	ipa := with(t, sample(t, "Tidewick.ipa"), nil)
	program, err := ipa.Read(ipa.Find(ipa.Programs[0].Path), 1<<20)
	require.NoError(t, err)
	apple, is := read(string(program))
	require.True(t, is)
	assert.Equal(t, ProgramSymbols, apple.Kind)
	ipa.Match([]Symbols{apple})
	assert.Empty(t, ipa.Unreadable())
}

func TestWhatIsToldStaysBrief(t *testing.T) {
	long := strings.Repeat("x", 10_000)
	var symbols []Symbols
	var domains []Domain
	for range 2 * maxBrief {
		symbols = append(symbols, Symbols{Path: long, IDs: strings.Split(long[:500], ""), Of: strings.Split(long[:500], "")})
		domains = append(domains, Domain{Name: long})
	}
	p := &Package{Facts: Facts{Symbols: symbols, Domains: domains, Inside: []Inside{{Path: long, What: long}},
		Downloads: make([]Download, 70_000)}}
	text, err := json.Marshal(p.Brief())
	require.NoError(t, err)
	assert.Less(t, len(text), 2<<20)
	assert.Len(t, p.Symbols[0].Path, len(long), "the facts themselves stay whole")

	icons := map[string]string{}
	for i := range maxIcons + 20 {
		icons[fmt.Sprintf("Payload/Tidewick.app/AppIcon%d.png", i)] = "none"
	}
	assert.Len(t, with(t, sample(t, "Tidewick.ipa"), icons).Icons, maxIcons)
	bomb := strings.Repeat("http://", maxJudged+10) + " http://10.0.0.1/"
	ipa := with(t, sample(t, "Tidewick.ipa"), map[string]string{"Payload/Tidewick.app/b.bin": bomb})
	require.NoError(t, ipa.Search(t.Context()))
	assert.Empty(t, ipa.Inside, "what is behind the bound is not judged")
}

func TestAnIconIsDrawnAnew(t *testing.T) {
	drawn := func(w, h int) string {
		var b bytes.Buffer
		require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, w, h))))
		return b.String() + "what comes behind a picture"
	}
	const at = "Payload/Tidewick.app/AppIcon"
	p := with(t, sample(t, "Tidewick.ipa"), map[string]string{at + "60x60@2x.png": drawn(120, 120),
		at + "60x60@3x.png": drawn(180, 180), at + "83.png": drawn(maxPicture+1, 1), at + "76.png": "no picture"})
	c, form, err := image.DecodeConfig(bytes.NewReader(p.Picture))
	require.NoError(t, err)
	assert.Equal(t, []any{"png", pictureSize, pictureSize}, []any{form, c.Width, c.Height})
	assert.NotContains(t, string(p.Picture), "behind")
	assert.Len(t, p.Icons, 4)
}

func TestWhatADeviceLoadsIsEstimated(t *testing.T) {
	f, err := look(sample(t, "signed.apk"))
	require.NoError(t, err)
	assert.Equal(t, []Download{{Size: f.Size}}, f.Downloads)
	one := strings.Repeat("1", 1000)
	files := map[string]string{"base/lib/x86_64/libtide.so": one + one, "base/res/drawable-mdpi-v4/a.txt": one,
		"base/res/drawable-xxhdpi-v4/a.txt": one + one, "base/res/drawable-hdpi/a.txt": one}
	p := with(t, sample(t, "tidewick.aab"), files)
	assert.Equal(t, []string{"base"}, p.Unsplit)
	files["base/native.pb"] = ""
	p = with(t, sample(t, "tidewick.aab"), files)
	assert.Empty(t, p.Unsplit)
	size := map[string]map[int]int64{}
	for _, d := range p.Downloads {
		if size[d.Processor] == nil {
			size[d.Processor] = map[int]int64{}
		}
		size[d.Processor][d.Density] = d.Size
	}
	assert.Len(t, size, 2)
	assert.Contains(t, size["x86_64"], 160)
	assert.Greater(t, size["x86_64"][480], size["x86_64"][160])
	assert.Len(t, p.Downloads, 4, "the least screen and the most, for each processor")
}
