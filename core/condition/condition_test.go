package condition

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestConditionsHold(t *testing.T) {
	facts := Facts{Trigger: "push", Branch: "work/chart", Target: "main", Commit: "ab12", Subject: "Draw", Author: "Ada", Trusted: true, Changed: []string{"core/tide.c", "docs/a.md"},
		Input: map[string]any{"channel": "beta", "count": 3.0, "dry": true}, Variant: map[string]string{"ABI": "x86_64"},
		Job: map[string]string{"core": "failed", "android+x86_64": "passed"}}
	for text, want := range map[string]bool{
		`branch == "main"`: false,
		`target == "main" && commit == "ab12" && subject == "Draw" && author == "Ada"`: true,
		`branch.startsWith("work/") && trigger != "person"`:                            true,
		`changed.within("core/**")`:                                                    true,
		`changed.within("ios/**")`:                                                     false,
		`changed.exists(p, p.endsWith(".md"))`:                                         true,
		`input.channel == "beta" && input.count > 2`:                                   true,
		`input.dry`: true,
		`job.core == "failed" || job["core"] == "timed-out"`: true,
		`job["android+x86_64"] == "passed"`:                  true,
		`variant.ABI in ["arm64-v8a"]`:                       false,
		`!trusted`:                                           false,
		`size(tag) > 0`:                                      false,
	} {
		c, err := Compile(text)
		require.NoError(t, err, text)
		got, err := c.Holds(facts)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
}

func TestConditionsThatAreNone(t *testing.T) {
	for text, want := range map[string]string{
		`branch`:                    "true or false",
		`brunch == "main"`:          "undeclared",
		`branch == `:                "does not hold together",
		`size(changed)`:             "true or false",
		`branch == 3`:               "no matching overload",
		strings.Repeat("!", 9000):   "bytes",
		strings.Repeat("(", 500):    "does not hold together",
		`changed.map(p, p + "x")`:   "true or false",
		`import("os")`:              "reserved",
		`"a" + ${BRANCH} == branch`: "does not hold together",
	} {
		_, err := Compile(text)
		var wrong *Error
		require.True(t, errors.As(err, &wrong), "%.40s: %v", text, err)
		assert.Contains(t, wrong.Message, want, "%.40s", text)
		assert.Positive(t, wrong.Col)
	}
}

func TestAConditionThatTakesForEverIsStopped(t *testing.T) {
	c, err := Compile(`changed.all(a, changed.all(b, changed.all(c, changed.all(d, a + b + c + d != ""))))`)
	require.NoError(t, err)
	var many []string
	for i := range 10_000 {
		many = append(many, fmt.Sprintf("file%d", i))
	}
	_, err = c.Holds(Facts{Changed: many})
	assert.ErrorIs(t, err, ErrTooCostly)
}

func TestWhatIsAskedFor(t *testing.T) {
	c, err := Compile(`input.channel == "x" && job["core"] == "passed" && variant.ABI != "" && changed.within("a")`)
	require.NoError(t, err)
	assert.Equal(t, []string{"channel"}, c.Asks("input"))
	assert.Equal(t, []string{"core"}, c.Asks("job"))
	assert.Equal(t, []string{"ABI"}, c.Asks("variant"))
	assert.Contains(t, c.Asks(""), "changed")
}

func TestAnUnknownKeyIsSaidWithTheExpression(t *testing.T) {
	c, err := Compile(`input.chanel == "x"`)
	require.NoError(t, err)
	_, err = c.Holds(Facts{})
	assert.ErrorContains(t, err, "input.chanel")
	c, err = Compile(`input.count`)
	require.NoError(t, err)
	_, err = c.Holds(Facts{Input: map[string]any{"count": "many"}})
	assert.ErrorContains(t, err, "neither true nor false")
}

func TestComparingManyPathsCosts(t *testing.T) {
	changed := make([]string, 20_000)
	for i := range changed {
		changed[i] = fmt.Sprintf("core/%d.c", i)
	}
	once, err := Compile(`changed.within("android/**")`)
	require.NoError(t, err)
	holds, err := once.Holds(Facts{Changed: changed})
	require.NoError(t, err)
	assert.False(t, holds)
	square, err := Compile(`changed.all(x, !changed.within("android/" + x))`)
	require.NoError(t, err)
	_, err = square.Holds(Facts{Changed: changed})
	assert.ErrorIs(t, err, ErrTooCostly)
	braces, err := Compile(`changed.within("` + strings.Repeat("{a,b}", 40) + `")`)
	require.NoError(t, err)
	_, err = braces.Holds(Facts{Changed: changed})
	assert.ErrorContains(t, err, "within takes a glob")
}
