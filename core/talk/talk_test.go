package talk

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMessagesAreReadAsTheyWereWritten(t *testing.T) {
	code := 3
	kind, body, err := Read(OfEnding(Ending{Why: "left", Code: &code}))
	require.NoError(t, err)
	assert.Equal(t, Over, kind)
	assert.Equal(t, Ending{Why: "left", Code: &code}, EndingOf(body))

	_, body, err = Read(OfSize(Size{132, 50}))
	require.NoError(t, err)
	assert.Equal(t, Size{132, 50}, SizeOf(body))
	_, body, err = Read(OfTaken(70_000))
	require.NoError(t, err)
	assert.Equal(t, 70_000, TakenOf(body))
	kind, body, err = Read(Of(Data, []byte("ls\n")))
	require.NoError(t, err)
	assert.Equal(t, Data, kind)
	assert.Equal(t, "ls\n", string(body))
}

func TestStrangeMessagesAreRefused(t *testing.T) {
	for _, m := range []string{"", "?", "r", "r12345", "t", "t1", "d" + strings.Repeat("x", MaxData+1),
		"x" + strings.Repeat("x", MaxData+1)} {
		_, _, err := Read([]byte(m))
		assert.ErrorIs(t, err, ErrMessage, "%.20q", m)
	}
	assert.Equal(t, Ending{Why: "nobody can read why"}, EndingOf([]byte("{")))
	_, body, err := Read(OfEnding(Ending{Why: strings.Repeat("w", 99_999)}))
	require.NoError(t, err)
	assert.Len(t, EndingOf(body).Why, 500)
	for _, hostile := range []string{`{"why": "a\u0000b\u001b[31m\nc", "code": 9223372036854775807}`, `{"why": "a", "code": -7}`,
		`{"why": "` + strings.Repeat("é", 900) + `"}`} {
		e := EndingOf([]byte(hostile))
		assert.True(t, utf8.ValidString(e.Why))
		assert.NotContains(t, e.Why, "\x00")
		assert.NotContains(t, e.Why, "\x1b")
		assert.NotContains(t, e.Why, "\n")
		assert.LessOrEqual(t, len(e.Why), 500)
		if e.Code != nil {
			assert.Contains(t, []int{0, 255}, *e.Code)
		}
	}
}

func TestATerminalIsOfSomeSize(t *testing.T) {
	assert.Equal(t, Size{80, 24}, Size{}.Within())
	assert.Equal(t, Size{80, 24}, Size{-1, 5}.Within())
	assert.Equal(t, Size{MaxSide, 10}, Size{70_000, 10}.Within())
}

func TestWhatIsShownIsWrittenDown(t *testing.T) {
	began := time.Unix(1_700_000_000, 0)
	c, header := NewCast(Size{100, 30}, "core of run 7", began)
	assert.JSONEq(t, `{"version":2,"width":100,"height":30,"timestamp":1700000000,"title":"core of run 7"}`, header)
	assert.Equal(t, "[0.25,\"o\",\"a\\u001b[1mb\"]\n", c.Shows([]byte("a\x1b[1mb"), began.Add(250*time.Millisecond)))
	assert.Equal(t, "[1,\"r\",\"90x20\"]\n", c.Resized(Size{90, 20}, began.Add(time.Second)))
	assert.Contains(t, c.Shows([]byte("x"), began.Add(-time.Hour)), "[0,", "a clock that was set back")
}

// A character may come in two pieces, and bytes that are none are written as such.
func TestACharacterIsNotCutInTwo(t *testing.T) {
	c, _ := NewCast(Size{}, "", time.Unix(0, 0))
	now := time.Unix(1, 0)
	assert.Empty(t, c.Shows([]byte("\xe2\x96"), now))
	var event []any
	require.NoError(t, json.Unmarshal([]byte(c.Shows([]byte("\x88!"), now)), &event))
	assert.Equal(t, "█!", event[2])
	require.NoError(t, json.Unmarshal([]byte(c.Shows([]byte("\xff\xfe\x80\x80\x80\x80z"), now)), &event))
	assert.Equal(t, "\ufffd\ufffd\ufffd\ufffd\ufffd\ufffdz", event[2])
}
