package testreport

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
	cases, err := Parse(strings.NewReader(sample))
	require.NoError(t, err)
	require.Len(t, cases, 4)
	assert.Equal(t, Case{Suite: "tides", Name: "high water", Result: Passed, Seconds: 0.012}, cases[0])
	assert.Equal(t, Case{Suite: "own", Name: "low <water>", Result: Failed, Seconds: 1200.5, Message: "got 1.2 m",
		Detail: "core/tide.c:40: expected 1.3\nat second line"}, cases[1])
	assert.Equal(t, "Segmentation fault", cases[2].Message)
	assert.Equal(t, Skipped, cases[3].Result)
}

func TestParseRefusesOtherFiles(t *testing.T) {
	for _, text := range []string{"", "{}", "<html></html>", "<testsuite><testcase", "<testsuites>\xff</testsuites"} {
		_, err := Parse(strings.NewReader(text))
		assert.ErrorIs(t, err, ErrNotJUnit, text)
	}
}
