package testreport

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"
	"unicode/utf8"

	"gentlepiston.example/piston/core/mutate"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"
)

const sample = `<?xml version="1.0" encoding="UTF-8"?>
<testsuites>
 <testsuite name="tides" tests="4">
  <properties><property name="a" value="b"/></properties>
  <testcase name="high water" time="0.012"/>
  <testcase classname="own" name="low &lt;water&gt;" time="1,200.5"><failure message="got 1.2 m&#10;more">core/tide.c:40: expected 1.3
at second line</failure></testcase>
  <testcase name="crash"><error>Segmentation fault</error></testcase>
  <testcase name="later"><skipped message="needs a network"/></testcase>
  <system-out>noise</system-out>
 </testsuite>
</testsuites>`

func TestParse(t *testing.T) {
	cases, err := Parse(strings.NewReader(sample), MaxCases)
	require.NoError(t, err)
	require.Len(t, cases, 4)
	assert.Equal(t, Case{Suite: "tides", Name: "high water", Result: Passed, Seconds: 0.012}, cases[0])
	assert.Equal(t, Case{Suite: "own", Name: "low <water>", Result: Failed, Seconds: 1200.5, Message: "got 1.2 m",
		Detail: "core/tide.c:40: expected 1.3\nat second line", File: "core/tide.c", Line: 40}, cases[1])
	assert.Equal(t, "Segmentation fault", cases[2].Message)
	assert.Equal(t, Skipped, cases[3].Result)
}

func TestASuiteWithinAnotherEnds(t *testing.T) {
	cases, err := Parse(strings.NewReader(`<testsuite name="all"><testcase name="a"/><testsuite name="inner"><testcase name="b"/></testsuite>`+
		`<testcase name="c"/></testsuite><testsuite><testcase name="d"/></testsuite>`), MaxCases)
	require.NoError(t, err)
	var suites []string
	for _, c := range cases {
		suites = append(suites, c.Name+" of "+c.Suite)
	}
	assert.Equal(t, []string{"a of all", "b of inner", "c of all", "d of "}, suites)
}

func TestParseRefusesOtherFiles(t *testing.T) {
	for _, text := range []string{"", "{}", "<html></html>", "<testsuite><testcase", "<testsuites>\xff</testsuites"} {
		_, err := Parse(strings.NewReader(text), MaxCases)
		assert.ErrorIs(t, err, ErrNotJUnit, text)
	}
}

func TestWhereACaseFailed(t *testing.T) {
	for text, want := range map[string]string{
		`<testcase name="a" file="core/test_tide.c" line="41"><failure message="no"/></testcase>`:  "core/test_tide.c:41",
		`<testcase name="a"><failure message="core/test_tide.c:17: want 3">x</failure></testcase>`: "core/test_tide.c:17",
		`<testcase name="a"><failure message="want 3">at TideTest.java
	at org.tidewick.TideTest.high(TideTest.java:88)</failure></testcase>`: "TideTest.java:88",
		`<testcase name="a" file="TideTest.swift"><failure message="x">/src/TideTest.swift:9: error</failure></testcase>`: "/src/TideTest.swift:9",
		`<testcase name="a"><failure message="at 12:30 the ratio was 3.14:2"/></testcase>`:                                ":0",
		`<testcase name="a" file="x.c" line="99"><failure message="in other.c:3"/></testcase>`:                            "x.c:99",
		`<testcase name="a"><failure message="http://127.0.0.1:80"/></testcase>`:                                          ":0",
	} {
		cases, err := Parse(strings.NewReader("<testsuite>"+text+"</testsuite>"), MaxCases)
		require.NoError(t, err)
		require.Len(t, cases, 1)
		assert.Equal(t, want, fmt.Sprintf("%s:%d", cases[0].File, cases[0].Line), text)
	}
}

func TestReportsThatAreTooMuch(t *testing.T) {
	suite := func(n int, inside string) string {
		return "<testsuite name='s'>" + strings.Repeat("<testcase name='x'>"+inside+"</testcase>", n) + "</testsuite>"
	}
	cases, err := Parse(strings.NewReader(suite(MaxCases, "")), MaxCases)
	require.NoError(t, err)
	assert.Len(t, cases, MaxCases)
	_, err = Parse(strings.NewReader(suite(MaxCases+1, "")), MaxCases)
	assert.ErrorContains(t, err, "more than")
	for _, over := range []int{0, 1} {
		cases, err = Parse(strings.NewReader(suite(1, "<failure>"+strings.Repeat("x", MaxDetail+over)+"</failure>")), MaxCases)
		require.NoError(t, err)
		assert.Equal(t, over == 1, strings.HasSuffix(cases[0].Detail, "…"))
	}
	for _, text := range []string{"<testsuite><testcase name='x'><failure></testcase></testsuite>", "<testsuite><properties><a></properties>",
		"<html/>", "", "<testsuite>"} {
		_, err := Parse(strings.NewReader(text), MaxCases)
		assert.ErrorIs(t, err, ErrNotJUnit, text)
	}
	cases, err = Parse(strings.NewReader("<testsuites><testsuite name='a'><testsuite name='b'><testcase name='1'/></testsuite><testcase name='2'/></testsuite>"+
		"<testsuite name='c'><testcase name='3'/></testsuite></testsuites>"), MaxCases)
	require.NoError(t, err)
	require.Len(t, cases, 3)
	assert.Equal(t, []string{"b", "a", "c"}, []string{cases[0].Suite, cases[1].Suite, cases[2].Suite}, "a suite ends where it ends")
}

func TestAReportThatLies(t *testing.T) {
	long := strings.Repeat("n", 500_000)
	cases, err := Parse(strings.NewReader(`<testsuite name="`+long+`"><testcase name="a" time="-5"/>`+
		`<testcase name="b" time="1e300"/><testcase name="c" time="NaN"/><testcase name="d" time="+Inf"/>`+
		`<testcase name="e" time="soon"/><testcase name="`+long+`"/></testsuite>`), MaxCases)
	require.NoError(t, err)
	require.Len(t, cases, 6)
	for _, c := range cases {
		assert.Zero(t, c.Seconds, c.Name)
		assert.LessOrEqual(t, len(c.Suite), maxName+3)
		assert.LessOrEqual(t, len(c.Name), maxName+3)
	}
	_, err = Parse(strings.NewReader(strings.Repeat("<testsuite>", 3_000_000)), MaxCases)
	assert.ErrorContains(t, err, "within each other", "it is given up early")
	cases, err = Parse(strings.NewReader("<testsuite><testcase name=\"a\"/><testcase name=\"b\x00\"/></testsuite>"), MaxCases)
	require.Error(t, err, "no character of XML")
	assert.Len(t, cases, 1)
}

// What a case has printed takes no other case along.
func TestWhatIsNoTextStandsInAReport(t *testing.T) {
	said := func(text string) string {
		return `<testsuite name="tides"><testcase name="a"><failure message="` + text + `"/></testcase><testcase name="b"/></testsuite>`
	}
	utf16 := func(text string) string {
		out, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
		require.NoError(t, err)
		return out
	}
	for text, want := range map[string]string{
		said("\x1b[31mno water\x1b[0m"):                                        "\uFFFD[31mno water\uFFFD[0m",
		said("&#27;[31mno&#x1B; &#xd800;&#65;"):                                "\uFFFD[31mno\uFFFD \uFFFDA",
		said("cut in half: \xc3"):                                              "cut in half: \uFFFD",
		said("M\xe4rz \uffff"):                                                 "M\uFFFDrz \uFFFD",
		"\uFEFF" + said("March"):                                               "March",
		`<?xml version="1.0" encoding="ISO-8859-1"?>` + said("M\xe4rz"):        "M\u00e4rz",
		`<?xml version='1.0' encoding='latin1' ?>` + said("M\xe4rz"):           "M\u00e4rz",
		`<?xml version="1.0" encoding="Windows-1252"?>` + said("5 \x80"):       "5 \u20ac",
		`<?xml version="1.0" encoding="utf-8"?>` + said("M\u00e4rz"):           "M\u00e4rz",
		`<?xml version="1.0" encoding="US-ASCII"?>` + said("March"):            "March",
		utf16(`<?xml version="1.0" encoding="UTF-16"?>` + said("M\u00e4rz 🌊")): "M\u00e4rz 🌊",
	} {
		for _, r := range []io.Reader{strings.NewReader(text), iotest.OneByteReader(strings.NewReader(text))} {
			cases, err := Parse(r, MaxCases)
			require.NoError(t, err, "%q", text)
			require.Len(t, cases, 2, "%q", text)
			assert.Equal(t, want, cases[0].Message, "%q", text)
		}
	}
	_, err := Parse(strings.NewReader(`<?xml version="1.0" encoding="EBCDIC-X"?>`+said("x")), MaxCases)
	require.ErrorIs(t, err, ErrNotJUnit)
	assert.ErrorContains(t, err, "have it written in UTF-8")
	for _, wrong := range []string{"&#0;", "&#xZZ;", "&#99999999999999999999;", "&#x110000;", "&none;", "&", "&#", "&#x"} {
		_, err := Parse(strings.NewReader(said(wrong)), MaxCases)
		assert.ErrorIs(t, err, ErrNotJUnit, wrong)
	}
}

// However a report is damaged, what is read of it is text of few bytes, and so many cases as there are elements.
func TestNoReportDoesHarm(t *testing.T) {
	good := []byte(sample)
	mutate.Each(t, good, func(r *rand.Rand) int { return r.IntN(len(good)) }, func(b []byte) {
		cases, err := Parse(bytes.NewReader(b), MaxCases)
		if err == nil {
			require.LessOrEqual(t, len(cases), strings.Count(sample, "<testcase"), "%q", b)
		}
		for _, c := range cases {
			for _, text := range []string{c.Suite, c.Name, c.Message, c.Detail, c.File} {
				require.True(t, utf8.ValidString(text) && !strings.ContainsAny(text, "\x00\x1b\ufffe"), "%q of %q", text, b)
			}
			require.False(t, c.Seconds < 0 || c.Seconds > maxSeconds || c.Line < 0, "%+v of %q", c, b)
		}
	})
}
