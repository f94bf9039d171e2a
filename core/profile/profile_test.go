package profile

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// of is a profile as it is downloaded: a list between the bytes of its envelope.
func of(app, ends string) string {
	return "0\x82\x1f\x06\x09*\x86H\x86\xf7\r\x01\x07\x02\xa0<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\"><dict>\n" +
		"<key>ExpirationDate</key>\n\t<date>" + ends + "</date>\n<key>Entitlements</key><dict><key>get-task-allow</key><false/>\n" +
		"<key>application-identifier</key><string>TEAM012345." + app + "</string></dict></dict></plist>\xa0\x82\x0d\x00"
}

func TestAProfileSaysForWhichAppItIs(t *testing.T) {
	p, ok := Read([]byte(of("org.tidewick.almanac", "2026-12-01T10:00:00Z")))
	assert.True(t, ok)
	assert.Equal(t, Profile{"org.tidewick.almanac", time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)}, p)
	assert.True(t, p.For("org.tidewick.almanac"))
	assert.False(t, p.For("org.Tidewick.almanac"))
	kept := base64.StdEncoding.EncodeToString([]byte(of("org.tidewick.*", "soon")))
	p, ok = Read([]byte(kept[:60] + "\n" + kept[60:] + "\n"))
	assert.True(t, ok)
	assert.True(t, p.For("org.tidewick.charts"))
	assert.False(t, p.For("org.other"))
	assert.True(t, p.Ends.IsZero())
	assert.True(t, Profile{App: "*"}.For("anything"))
}

func TestWhatIsNoProfile(t *testing.T) {
	for _, text := range []string{"", "x", "<?xml", "</plist><?xml", "<?xml?><plist><dict/></plist>", "aGVsbG8=", of("", "x"),
		"<?xml <key>application-identifier<key><key></plist>", strings.Repeat("A", 2<<20)} {
		_, ok := Read([]byte(text))
		assert.False(t, ok, "%.40q", text)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(of("org.tidewick.almanac", "2026-12-01T10:00:00Z")))
	f.Add([]byte("<?xml <key>a</key><string>b</plist>"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if p, ok := Read(data); ok {
			assert.NotEmpty(t, p.App)
		}
	})
}
